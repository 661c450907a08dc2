"""What was read, what was not and why, and which answers that weakens: as a table, and as the JSON document `coverage`."""

from collections.abc import Iterable, Sequence
from itertools import islice
from typing import Any

from fidelitas.facts import FileKind, FileState, Gap
from fidelitas.reports.numbers import counted
from fidelitas.reports.places import place_document
from fidelitas.reports.report import Listed, Part, Report
from fidelitas.reports.table import Table
from fidelitas.rights import SubjectRights

__all__ = ["coverage_document", "coverage_report", "coverage_table", "gap_lines", "gaps_line"]


def coverage_report(hosts: Sequence[SubjectRights], *, each: bool = False) -> Report:
    """Return what was read and what was not: a line for each subject and each gap; with `each` everything that was looked at."""
    gaps = [(host, gap) for host in hosts for gap in host.gaps]
    return Report(
        answer=lambda: [_answer(hosts)],
        parts=lambda: [coverage_table(hosts)] if each else _summary(hosts, gaps),
        rows=lambda: [coverage_table(hosts)],
        onward=lambda: [] if each else ["everything that was looked at: fidelitas coverage --each"],
        document=lambda: coverage_document(hosts),
    )


def _summary(hosts: Sequence[SubjectRights], gaps: Sequence[tuple[SubjectRights, Gap]]) -> list[Part]:
    found: list[Part] = ["\n", "Not read\n", _gaps_table(gaps)] if gaps else []
    return [_subjects_table(hosts), *found]


def _answer(hosts: Sequence[SubjectRights]) -> str:
    """Return of how many subjects the evidence is complete, and how many gaps there are."""
    gaps = sum(len(host.gaps) for host in hosts)
    if not gaps:
        return f"{counted(len(hosts), 'subject')}: all evidence that was wanted was read"
    complete = sum(not host.gaps for host in hosts)
    return f"{counted(len(hosts), 'subject')}: {complete} complete; {counted(gaps, 'gap')}, which weaken the answers named below"


def _subjects_table(hosts: Sequence[SubjectRights]) -> Table:
    """Return a row for each subject: when it was read and by whom, and how much."""
    return Table(
        columns=("subject", "read at", "as", "read", "absent", "gaps"),
        rows=tuple(_subject(host) for host in hosts),
        may_fold=frozenset(),
        empty="The ledger holds no evidence.",
    )


def _subject(host: SubjectRights) -> tuple[str, ...]:
    states = [row[2] for row in _rows(host)]
    by = "" if host.taken_by is None else "root" if host.taken_by == 0 else f"user ID {host.taken_by}"
    return (
        host.subject,
        f"{host.taken:%Y-%m-%d %H:%M} UTC",
        by,
        str(states.count("read")),
        str(states.count("absent")),
        str(len(host.gaps)) if host.gaps else "none",
    )


def _gaps_table(gaps: Sequence[tuple[SubjectRights, Gap]]) -> Table:
    return Table(
        columns=("subject", "item", "why", "weakens"),
        rows=tuple((host.subject, gap.what, _why(gap), gap.weakens) for host, gap in gaps),
        may_fold=frozenset({"item", "why", "weakens"}),
        styles=tuple("bold" for _ in gaps),
    )


def _why(gap: Gap) -> str:
    return f"{'' if gap.place.line is None else f'{gap.place.in_file()}: '}{gap.why}"


def coverage_table(hosts: Sequence[SubjectRights]) -> Table:
    """Return one row for everything that was looked at and one for every gap, gaps first."""
    rows = [row for host in hosts for row in _rows(host)]
    return Table(
        columns=("subject", "item", "state", "detail", "weakens"),
        rows=tuple(rows),
        may_fold=frozenset({"item", "detail", "weakens"}),
        styles=tuple("bold" if row[2] == "gap" else "" for row in rows),
        empty="The ledger holds no evidence.",
    )


def _rows(host: SubjectRights) -> Iterable[tuple[str, str, str, str, str]]:
    for gap in host.gaps:
        yield host.subject, gap.what, "gap", _why(gap), gap.weakens
    for what, count in host.counts():
        yield host.subject, what, "read", f"{count} rows", ""
    if host.programs is not None:
        for path in host.programs.searched:
            yield host.subject, path, "searched", "for setuid files and capabilities", ""
        for path, kind in host.programs.skipped:
            yield host.subject, path, "skipped", f"no files of this host ({kind})", ""
    for state in sorted(host.files, key=lambda state: state.path):
        if state.read:
            yield host.subject, state.path, "read", "" if state.size is None else f"{state.size} bytes", ""
        elif state.kind is FileKind.ABSENT and state.path.startswith("/etc/"):  # elsewhere lie what commands are given, not what we read
            yield host.subject, state.path, "absent", "there is no such file", ""


def gaps_line(count: int) -> str:
    """Return, in one line, that the answer is incomplete, and what to do about it."""
    return f"{count} gap{'' if count == 1 else 's'} in the evidence: the answer is incomplete (see fidelitas coverage)"


def gap_lines(gaps: Iterable[Gap], count: int, most: int = 5) -> list[str]:
    """Return a line for each of the first gaps, and one that counts the rest; no more are asked for."""
    lines = [f"{gap.place}: {gap.why}" + (f" ({gap.weakens})" if gap.weakens else "") for gap in islice(gaps, most)]
    return [*lines, f"and {count - most} more"] if count > most else lines


def _state_document(state: FileState) -> dict[str, Any]:
    return {
        "path": state.path,
        "kind": state.kind.value,
        "read": state.read,
        "mode": None if state.mode is None else f"{state.mode:04o}",
        "uid": state.uid,
        "gid": state.gid,
        "size": state.size,
    }


def _gap_document(gap: Gap) -> dict[str, Any]:
    return {"what": gap.what, "why": gap.why, "weakens": gap.weakens or None, "kind": gap.kind.value, "place": place_document(gap.place)}


def coverage_document(hosts: Sequence[SubjectRights]) -> dict[str, Any]:
    """Return the JSON document of what was read and what was not."""
    return {
        "schema": "fidelitas/coverage/1",
        "subjects": Listed(lambda: map(_subject_document, hosts)),
    }


def _subject_document(host: SubjectRights) -> dict[str, Any]:
    return {
        "subject": host.subject,
        "taken": host.taken.isoformat(),
        "taken_as_uid": host.taken_by,
        "live": host.live,
        "complete": not host.gaps,
        "items": [_state_document(state) for state in host.files],
        "gaps": [_gap_document(gap) for gap in host.gaps],
    }
