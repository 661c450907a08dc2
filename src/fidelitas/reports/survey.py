"""What `survey` says at once: a line for each subject, the worst findings, what was not read; with `full` every holding and finding.

It fits two screens for an estate of a dozen subjects; more subjects than that are put together by system.
"""

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

from fidelitas.facts import Gap
from fidelitas.findings import Finding, Severity
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.control import administrators, controls_of, escalations
from fidelitas.reports.coverage import coverage_document, coverage_table
from fidelitas.reports.findings import findings_blocks, findings_document, findings_table, grouped, groups_table, tally
from fidelitas.reports.holder_groups import grouped_tables
from fidelitas.reports.holders import Filter, holders_document, holders_table, selected
from fidelitas.reports.numbers import counted, listed, plural
from fidelitas.reports.report import Part, Report
from fidelitas.reports.subjects import words_of
from fidelitas.reports.table import Table
from fidelitas.rights import FullControl, SubjectRights

__all__ = ["survey_document", "survey_report"]

_WORST = 10
_MOST_SUBJECTS = 24
_MOST_GAPS = 6
_NOUNS = {
    "linux": "host",
    "windows": "Windows machine",
    "postgresql": "database server",
    "mariadb": "database server",
    "directory": "directory",
}


def survey_report(
    subjects: Sequence[SubjectRights], findings: Sequence[Finding], survey: str | None, *, full: bool = False, since: Sequence[str] = ()
) -> Report:
    """Return an audit: each subject, its administrators and worst findings; `survey` names it, `since` are lines about the last one."""
    return Report(
        answer=lambda: [_answer(subjects)],
        parts=lambda: [*(_full(subjects, findings) if full else _summary(subjects, findings)), *_since(since)],
        onward=lambda: _onward(subjects, findings, full=full),
        rows=lambda: [holders_table(selected(subjects, Filter()), whole=True), findings_table(findings), coverage_table(subjects)],
        document=lambda: survey_document(subjects, findings, survey),
    )


def _since(lines: Sequence[str]) -> list[Part]:
    return ["\n", *(f"{line}\n" for line in lines)] if lines else []


def _answer(subjects: Sequence[SubjectRights]) -> str:
    """Return how many subjects of which kind were read, when, and whether all of it could be."""
    kinds = Counter(_NOUNS.get(one.platform, "subject") for one in subjects)
    when = sorted(one.taken for one in subjects)
    read = f"read {when[0]:%Y-%m-%d %H:%M} UTC" if when[:1] == when[-1:] else f"read {when[0]:%Y-%m-%d} to {when[-1]:%Y-%m-%d}"
    gaps = sum(len(one.gaps) for one in subjects)
    told = f"{counted(gaps, 'gap')} in the evidence (fidelitas coverage)" if gaps else "evidence complete"
    return f"{', '.join(counted(count, noun) for noun, count in kinds.items())} · {read} · {told}"


def _summary(subjects: Sequence[SubjectRights], findings: Sequence[Finding]) -> list[Part]:
    groups = grouped(findings)
    parts: list[Part] = [_subjects_table(subjects, findings), "\n"]
    if groups:
        parts += [f"Worst {min(_WORST, len(groups))} of {tally(findings)}\n", groups_table(groups[:_WORST])]
    else:
        parts.append("No findings: nothing risky or unexpected, as far as the evidence goes.\n")
    if len(subjects) == 1:
        full = [(one, holding) for one, holding in selected(subjects, Filter()) if holding.right.kind.full]
        parts += ["\n", *grouped_tables(full, one_subject=True)]
    gaps = _gap_lines([gap for one in subjects for gap in one.gaps])
    return [*parts, *(["\n", "Not read\n", *(f"  {line}\n" for line in gaps)] if gaps else [])]


def _subjects_table(subjects: Sequence[SubjectRights], findings: Sequence[Finding]) -> Table:
    by_subject: dict[str, Counter[Severity]] = {}
    for finding in findings:
        by_subject.setdefault(finding.subject, Counter())[finding.severity] += 1
    controls = controls_of(subjects)
    rows = [_subject_row(one, controls[one.subject], by_subject.get(one.subject, Counter())) for one in subjects]
    if len(rows) > _MOST_SUBJECTS:
        rows = _together(rows)
    return Table(
        columns=("subject", "system", "administrators", "escalations", "findings", "evidence"),
        rows=tuple(rows),
        may_fold=frozenset({"subject", "findings"}),
        least=("system",),
    )


def _subject_row(one: SubjectRights, control: FullControl, found: Mapping[Severity, int]) -> tuple[str, ...]:
    worst = [f"{found[severity]} {severity}" for severity in Severity if found.get(severity)][:2]
    evidence = counted(len(one.gaps), "gap") if one.gaps else "complete"
    return one.subject, words_of(one).system(one), administrators(control), escalations(control), ", ".join(worst) or "none", evidence


def _together(rows: Sequence[tuple[str, ...]]) -> list[tuple[str, ...]]:
    """Return equal rows of many subjects as one."""
    groups: dict[tuple[str, ...], list[str]] = {}
    for subject, *rest in rows:
        groups.setdefault(tuple(rest), []).append(subject)
    return [(listed(names, 2, "subject"), *rest) for rest, names in groups.items()]


def _gap_lines(gaps: Sequence[Gap]) -> list[str]:
    """Return a line for each kind of gap, with where and how often."""
    groups: dict[tuple[str, str], list[Gap]] = {}
    for gap in gaps:
        groups.setdefault((gap.why, gap.weakens), []).append(gap)
    lines = []
    for (why, weakens), those in groups.items():
        subjects = list(dict.fromkeys(gap.place.subject for gap in those))
        what = those[0].what if len(those) == 1 else f"{those[0].what} and {len(those) - 1} more"
        lines.append(f"{listed(subjects, 3, 'subject')}: {what}: {why}" + (f" ({weakens})" if weakens else ""))
    more = len(lines) - _MOST_GAPS
    return lines[:_MOST_GAPS] + (
        [f"and {counted(more, 'more ' + plural('gap') if more > 1 else 'gap')}: fidelitas coverage"] if more > 0 else []
    )


def _onward(subjects: Sequence[SubjectRights], findings: Sequence[Finding], *, full: bool) -> list[str]:
    worst = next((finding.subject for finding in findings), subjects[0].subject if subjects else None)
    commands = [
        "fidelitas findings",
        *([f"fidelitas holders --on {worst}"] if worst else []),
        "fidelitas account NAME",
        "fidelitas coverage",
    ]
    return [" · ".join(commands if full else [*commands, "all of it: --full"])]


def _full(subjects: Sequence[SubjectRights], findings: Sequence[Finding]) -> list[Part]:
    return [
        *map(_subject, subjects),
        "\n",
        *grouped_tables(selected(subjects, Filter()), one_subject=len(subjects) == 1),
        f"\n{tally(findings)}\n\n",
        *findings_blocks(grouped(findings)),
    ]


def _subject(subject: SubjectRights) -> Block:
    return Block(subject.subject, tuple(Row(line) for line in words_of(subject).head(subject)))


def survey_document(hosts: Sequence[SubjectRights], findings: Sequence[Finding], survey: str | None) -> dict[str, Any]:
    """Return the JSON document of a survey: holdings, findings and coverage in one; `survey` names it in the ledger."""
    return {
        "schema": "fidelitas/survey/1",
        "survey": survey,
        "holders": holders_document(selected(hosts, Filter())),
        "findings": findings_document(findings, complete=not any(host.gaps for host in hosts)),
        "coverage": coverage_document(hosts),
    }
