"""What is risky or unexpected, worst first: a line for each thing, equal things together; with reasons and fixes as blocks; as JSON.

The same check with the same message on several subjects is one thing that happened many times, as on hosts that were cloned.
"""

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from msgspec import Struct

from fidelitas.charter import AcceptedFinding
from fidelitas.findings import Finding, Severity, Statistic
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.issues import issues_of_findings
from fidelitas.reports.numbers import counted, listed
from fidelitas.reports.places import place_document
from fidelitas.reports.report import Listed, Part, Report
from fidelitas.reports.table import Table

__all__ = [
    "Detail",
    "Group",
    "findings_blocks",
    "findings_document",
    "findings_report",
    "findings_table",
    "grouped",
    "groups_table",
    "tally",
    "worst_groups",
]

_STYLES = {
    Severity.CRITICAL: "bold red",
    Severity.HIGH: "red",
    Severity.MEDIUM: "bold",
    Severity.LOW: "",
    Severity.INFO: "dim",
}
_MOST_SUBJECTS = 2


class Group(Struct, frozen=True):
    """Findings of one check that say the same of several subjects, or one by itself."""

    findings: tuple[Finding, ...]

    @property
    def first(self) -> Finding:
        """The one that stands for all."""
        return self.findings[0]

    @property
    def subjects(self) -> list[str]:
        """The subjects, each once."""
        return list(dict.fromkeys(finding.subject for finding in self.findings))


def grouped(findings: Sequence[Finding]) -> list[Group]:
    """Return findings with equal ones together, in their order."""
    groups: dict[object, list[Finding]] = {}
    for finding in findings:
        groups.setdefault((finding.severity, finding.check, finding.message), []).append(finding)
    return [Group(tuple(those)) for those in groups.values()]


def worst_groups(findings: Iterable[Finding], most: int) -> tuple[list[Group], Counter[str], int]:
    """Return the first groups of equal findings, how many findings there are of others by check, and how many groups there are in all.

    Of the others nothing but their number is held.
    """
    groups: dict[object, list[Finding]] = {}
    others, met = Counter[str](), set[int]()
    for finding in findings:
        key = finding.severity, finding.check, finding.message
        met.add(hash(key))
        if key in groups or len(groups) < most:
            groups.setdefault(key, []).append(finding)
        else:
            others[finding.check] += 1
    return [Group(tuple(those)) for those in groups.values()], others, len(met)


class Detail(Struct, frozen=True):
    """How much of each finding is shown: `each` by itself instead of equal ones together; `explain` with reason and fix."""

    each: bool = False
    explain: bool = False


_IN_SHORT = Detail()


def findings_report(
    findings: Sequence[Finding],
    *,
    complete: bool,
    detail: Detail = _IN_SHORT,
    context: Mapping[str, Sequence[str]] | None = None,
    excepted: Sequence[tuple[Finding, AcceptedFinding]] = (),
) -> Report:
    """Return what was found; `complete` says that no gap weakens it, `context` are lines to show with a finding, by its key.

    Findings that a charter accepts are `excepted`: they are counted, and listed in the JSON document.
    """
    groups = [Group((finding,)) for finding in findings] if detail.each else grouped(findings)

    def parts() -> Sequence[Part]:
        return findings_blocks(groups, context or {}) if detail.explain and groups else [groups_table(groups)]

    return Report(
        answer=lambda: [tally(findings) + (f" · {len(excepted)} excepted" if excepted else "")] if findings or excepted else [],
        parts=parts,
        onward=lambda: [] if detail.explain or not groups else [_onward(groups[0])],
        rows=lambda: [findings_table(findings)],
        document=lambda: findings_document(findings, complete=complete, excepted=excepted),
        issues=lambda: issues_of_findings(findings, excepted),
    )


def _onward(first: Group) -> str:
    return f"fidelitas findings {first.first.check} (why, and how to fix it) · all in full: --explain"


def groups_table(groups: Sequence[Group]) -> Table:
    """Return a line for each group: how bad, where, what, and by which check."""
    return Table(
        columns=("severity", "where", "what", "check"),
        rows=tuple((str(one.first.severity).upper(), where(one), one.first.message, one.first.check) for one in groups),
        may_fold=frozenset({"what"}),
        least=("check",),
        styles=tuple(_STYLES[one.first.severity] for one in groups),
        first_only=True,
        empty="Nothing risky or unexpected was found, as far as the evidence goes.",
    )


def where(group: Group) -> str:
    """Return the subjects of a group, or how many there are."""
    return listed(group.subjects, _MOST_SUBJECTS, "subject")


def findings_blocks(groups: Sequence[Group], context: Mapping[str, Sequence[str]] | None = None) -> list[Block]:
    """Return each group as a block: what, where, why, and how to fix it."""
    return [_block(one, context or {}) for one in groups]


def _block(group: Group, context: Mapping[str, Sequence[str]]) -> Block:
    finding = group.first
    rows = [Row(finding.message), *_places(group)]
    rows += [Row(text, indent=6, style="dim") for text in context.get(finding.key, ())]
    rows += [Row(finding.why, label="Why"), Row(finding.advice, label="Fix")]
    if finding.safer:
        rows.append(Row(finding.safer, label="Fix", style="dim"))
    rows.append(Row(f"Key {finding.key}" if len(group.findings) == 1 else f"{len(group.findings)} findings: keys with --each", style="dim"))
    headline = f"{str(finding.severity).upper():8}  {finding.check}  {where(group)}"
    return Block(headline, tuple(rows), style=_STYLES[finding.severity])


def _places(group: Group) -> list[Row]:
    first, *others = group.first.places
    rows = [Row(str(first) + (f"    {group.first.quote}" if group.first.quote else ""), indent=4, style="")]
    rows += [Row(str(place), label="see", indent=4) for place in others]
    more = len(group.subjects) - 1
    return rows + (
        [Row(f"and the same on {' '.join(group.subjects[1:9])}{f' and {more - 8} more' if more > 8 else ''}", indent=4)] if more else []
    )


def tally(findings: Sequence[Finding]) -> str:
    """Return how many findings of each severity there are, and how many distinct ones, in one line."""
    if not findings:
        return "no findings"
    counts = Counter(finding.severity for finding in findings)
    told = ", ".join(f"{counts[severity]} {severity}" for severity in Severity if counts[severity])
    distinct = len(grouped(findings))
    return counted(len(findings), "finding") + (f", {distinct} distinct" if distinct != len(findings) else "") + f": {told}"


def findings_table(findings: Sequence[Finding]) -> Table:
    """Return one row a finding, with reason and fix."""
    return Table(
        columns=("severity", "subject", "check", "finding", "place", "why", "fix", "key"),
        rows=tuple(
            (
                str(finding.severity),
                finding.subject,
                finding.check,
                finding.message,
                finding.places[0].in_file(),
                finding.why,
                "; ".join(filter(None, (finding.advice, finding.safer))),
                finding.key,
            )
            for finding in findings
        ),
        may_fold=frozenset({"finding", "place", "why", "fix"}),
        empty="Nothing risky or unexpected was found, as far as the evidence goes.",
    )


def _finding_document(finding: Finding) -> dict[str, Any]:
    return {
        "key": finding.key,
        "check": finding.check,
        "severity": str(finding.severity),
        "subject": finding.subject,
        "message": finding.message,
        "why": finding.why,
        "advice": finding.advice,
        "places": [place_document(place) for place in finding.places],
        "text": finding.quote,
        "safer": finding.safer,
        "statistic": _statistic(finding.statistic),
    }


def findings_document(
    findings: Sequence[Finding], *, complete: bool, excepted: Sequence[tuple[Finding, AcceptedFinding]] = ()
) -> dict[str, Any]:
    """Return the JSON document of findings; `complete` says that no gap weakens it, `excepted` are those that a charter accepts."""
    return {
        "schema": "fidelitas/findings/1",
        "complete": complete,
        "findings": Listed(lambda: map(_finding_document, findings)),
        "excepted": [
            {
                "key": finding.key,
                "check": finding.check,
                "severity": str(finding.severity),
                "subject": finding.subject,
                "message": finding.message,
                "reason": entry.reason,
                "owner": entry.owner or None,
                "until": entry.until.isoformat() if entry.until is not None else None,
            }
            for finding, entry in excepted
        ],
    }


def _statistic(one: Statistic | None) -> dict[str, float] | None:
    return None if one is None else {"observed": one.observed, "expected": one.expected, "chance": one.chance}
