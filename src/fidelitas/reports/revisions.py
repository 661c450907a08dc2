"""The revisions of a policy: when each was seen, on which hosts, what it changed; and how every host stands to the repository."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from difflib import unified_diff
from typing import Any

from msgspec import Struct

from fidelitas.changes import RightChange, Turn
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.changes import holder_words, right_words
from fidelitas.reports.numbers import counted, listed
from fidelitas.reports.report import Part, Report
from fidelitas.reports.table import Table
from fidelitas.revisions import Commit, Revision, Standing, StandingKind, line_changes
from fidelitas.text import clipped, decode, shortened

__all__ = ["RevisionHistory", "revisions_report"]

_MOST_HOSTS, _MOST_RIGHTS, _LONGEST = 4, 3, 2000


class RevisionHistory(Struct, frozen=True):
    """What there is to say: revisions in groups that go back to one, what each changed in rights, commits that are at one, standings."""

    family: str  # in words
    revisions: Sequence[Revision]
    rights: Mapping[int, Sequence[RightChange]]  # by the number of the revision
    commits: Mapping[int, Commit]
    standings: Mapping[str, Standing]  # by subject


def revisions_report(history: RevisionHistory, *, diff: bool = False) -> Report:
    """Return the revisions of a policy; with `diff` also the text of what each changed."""
    return Report(
        answer=lambda: _answer(history),
        parts=lambda: _parts(history, diff=diff),
        rows=lambda: [_rows(history)],
        document=lambda: _document(history),
    )


def _answer(history: RevisionHistory) -> list[str]:
    hosts = {subject for revision in history.revisions for subject in revision.current}
    lines = [f"{history.family}: {counted(len(history.revisions), 'revision')} on {counted(len(hosts), 'host')}"]
    if history.standings:
        kinds: dict[str, list[str]] = {}
        for subject, standing in sorted(history.standings.items()):
            if standing.kind is not StandingKind.UNINTENDED:
                kinds.setdefault(_standing_words(standing), []).append(subject)
        lines.append("; ".join(f"{listed(subjects, _MOST_HOSTS, 'host')} {words}" for words, subjects in kinds.items()))
    return [line for line in lines if line]


def _standing_words(one: Standing) -> str:
    commit = f" {one.commit.short}" if one.commit is not None else ""
    if one.kind is StandingKind.EDITED:
        where = f" in {', '.join(one.files)}" if one.files else ""
        return f"edited locally: {_lines(one.added, one.removed)} against{commit}{where}"
    if one.kind in (StandingKind.BEHIND, StandingKind.AHEAD):
        return f"{counted(one.distance, 'commit')} {one.kind.value}, at{commit}"
    return f"at{commit} as intended"


def _lines(added: int, removed: int) -> str:
    parts = [f"{counted(count, 'line')} {what}" for count, what in ((added, "added"), (removed, "removed")) if count]
    return " and ".join(parts) or "other files"


def _parts(history: RevisionHistory, *, diff: bool) -> list[Part]:
    parts: list[Part] = [_table(history)]
    if history.standings:
        parts += ["\n", "Against the repository\n", _standings_table(history.standings)]
    if diff:
        parts += [block for revision in history.revisions for block in _diff_blocks(revision)]
    return parts


def _ordered(history: RevisionHistory) -> list[Revision]:
    """Return the revisions, those that go back to one together, the largest group first, the newest revision first in each."""
    groups: dict[int, list[Revision]] = {}
    for revision in history.revisions:
        groups.setdefault(revision.root.number, []).append(revision)
    order = sorted(groups.values(), key=lambda group: (-len({name for one in group for name in one.subjects}), group[0].number))
    return [revision for group in order for revision in reversed(group)]


def _table(history: RevisionHistory) -> Table:
    return Table(
        columns=(
            "revision",
            "first seen",
            "last seen",
            "hosts",
            "now",
            "changed lines",
            "changed rights",
            *(["commit"] if history.commits else []),
        ),
        rows=tuple(
            (
                str(one.number),
                _day(one.first),
                _day(one.last),
                listed(one.subjects, _MOST_HOSTS, "host"),
                listed(one.current, _MOST_HOSTS, "host") if sorted(one.current) != sorted(one.subjects) else "the same",
                _changed_lines(one),
                _changed_rights(history.rights.get(one.number, ())),
                *([_commit_words(history.commits.get(one.number))] if history.commits else []),
            )
            for one in _ordered(history)
        ),
        may_fold=frozenset({"hosts", "changed rights", "commit"}),
        least=("commit",),
        empty="No revision was seen.",
    )


def _day(at: datetime) -> str:
    return f"{at:%Y-%m-%d}"


def _changed_lines(one: Revision) -> str:
    if one.before is None:
        return f"{counted(len(one.files), 'file')}"
    added, removed, changed = line_changes(one.before.files, one.files)
    return f"from {one.before.number}: +{added} -{removed} in {listed(changed, 2, 'file')}"


def _changed_rights(changes: Sequence[RightChange]) -> str:
    shown = [f"{holder_words(one)} {_turn(one)} {right_words(one)}" for one in changes[:_MOST_RIGHTS]]
    more = len(changes) - len(shown)
    return "; ".join(shown) + (f" and {counted(more, 'more change')}" if more > 0 else "")


def _turn(one: RightChange) -> str:
    return {Turn.GAINED: "gained", Turn.LOST: "lost", Turn.ROUTE_ADDED: "got one more route to", Turn.ROUTE_REMOVED: "lost a route to"}.get(
        one.turn, "changed:"
    )


def _commit_words(one: Commit | None) -> str:
    return "" if one is None else f"{one.short} {one.author}, {_day(one.at)}: {shortened(one.comment)}"


def _standings_table(standings: Mapping[str, Standing]) -> Table:
    together: dict[tuple[str, str], list[str]] = {}
    for subject, one in sorted(standings.items()):
        words = one.kind.value if one.kind is StandingKind.UNINTENDED else _standing_words(one)
        together.setdefault((words, _commit_words(one.commit)), []).append(subject)
    return Table(
        columns=("hosts", "standing", "commit"),
        rows=tuple((listed(subjects, _MOST_HOSTS, "host"), words, commit) for (words, commit), subjects in together.items()),
        may_fold=frozenset({"hosts", "standing", "commit"}),
    )


def _diff_blocks(one: Revision) -> Iterable[Block]:
    """Yield what a revision changed in text, file by file."""
    if one.before is None:
        return
    for path in line_changes(one.before.files, one.files)[2]:
        old, new = (decode(side.get(path, b"")).expandtabs().splitlines() for side in (one.before.files, one.files))
        lines = list(unified_diff(old, new, lineterm="", n=2))[2:]
        yield Block(f"revision {one.before.number} → {one.number}: {path}", tuple(Row(clipped(line, _LONGEST)) for line in lines))


def _rows(history: RevisionHistory) -> Table:
    return Table(
        columns=("revision", "before", "first seen", "last seen", "subject", "now", "changed rights", "commit", "standing"),
        rows=tuple(
            (
                str(one.number),
                str(one.before.number) if one.before is not None else "",
                one.first.isoformat(),
                one.last.isoformat(),
                subject,
                "yes" if subject in one.current else "",
                _changed_rights(history.rights.get(one.number, ())),
                history.commits[one.number].id if one.number in history.commits else "",
                _standing_words(history.standings[subject]) if subject in history.standings and subject in one.current else "",
            )
            for one in history.revisions
            for subject in sorted(one.subjects)
        ),
    )


def _document(history: RevisionHistory) -> dict[str, Any]:
    return {
        "schema": "fidelitas/revisions/1",
        "family": history.family,
        "revisions": [_revision_document(one, history) for one in history.revisions],
        "standings": [
            {
                "subject": subject,
                "standing": one.kind.value,
                "commit": one.commit.id if one.commit is not None else None,
                "distance": one.distance,
                "lines_added": one.added,
                "lines_removed": one.removed,
                "files": list(one.files),
            }
            for subject, one in sorted(history.standings.items())
        ],
    }


def _revision_document(one: Revision, history: RevisionHistory) -> dict[str, Any]:
    added, removed, changed = line_changes(one.before.files, one.files) if one.before is not None else (0, 0, [])
    commit = history.commits.get(one.number)
    return {
        "number": one.number,
        "before": one.before.number if one.before is not None else None,
        "first_seen": one.first.isoformat(),
        "last_seen": one.last.isoformat(),
        "subjects": sorted(one.subjects),
        "current": sorted(one.current),
        "files": sorted(one.files),
        "lines_added": added,
        "lines_removed": removed,
        "changed_files": changed,
        "rights": [
            {"change": change.turn.value, "holder": holder_words(change), "right": right_words(change), "subject": change.subject}
            for change in history.rights.get(one.number, ())
        ],
        "commit": None
        if commit is None
        else {"id": commit.id, "author": commit.author, "at": commit.at.isoformat(), "comment": commit.comment},
    }
