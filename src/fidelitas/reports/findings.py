"""What is risky or unexpected, worst first: as blocks, as a table, and as the JSON document `findings`."""

from collections import Counter
from collections.abc import Sequence
from typing import Any

from fidelitas.findings import Finding, Severity
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.places import place_document
from fidelitas.reports.report import Report
from fidelitas.reports.table import Table

__all__ = ["findings_blocks", "findings_document", "findings_report", "findings_table", "tally"]

_STYLES = {
    Severity.CRITICAL: "bold magenta",
    Severity.HIGH: "bold red",
    Severity.MEDIUM: "bold yellow",
    Severity.LOW: "bold cyan",
    Severity.INFO: "bold",
}


def findings_report(findings: Sequence[Finding], *, complete: bool) -> Report:
    """Return what was found; `complete` says that no gap weakens it."""
    rows = findings_table(findings)
    return Report(
        parts=lambda: [*findings_blocks(findings), f"\n{tally(findings)}\n"] if findings else [rows],
        rows=lambda: [rows],
        document=lambda: findings_document(findings, complete=complete),
    )


def findings_blocks(findings: Sequence[Finding]) -> list[Block]:
    """Return each finding as a block: what, where, why, and what to do.  A reason is given once, with the first finding of its check."""
    blocks, told = [], set()
    for finding in findings:
        rows = [Row(finding.message), *_places(finding)]
        if finding.safer:
            rows.append(Row(finding.safer, label="Safer:", style="green"))
        if finding.check not in told:
            told.add(finding.check)
            rows += [Row(finding.why, label="Why:"), Row(finding.advice, label="Do: ")]
        headline = f"{str(finding.severity).upper():8}  {finding.subject}  {finding.check}"
        blocks.append(Block(headline, tuple(rows), style=_STYLES[finding.severity]))
    return blocks


def _places(finding: Finding) -> list[Row]:
    first, *others = finding.places
    rows = [Row(first.in_file() + (f"    {finding.quote}" if finding.quote else ""), indent=4, style="cyan")]
    return rows + [Row(place.in_file(), label="see", indent=4, style="cyan") for place in others]


def tally(findings: Sequence[Finding]) -> str:
    """Return how many findings of each severity there are, in one line."""
    counts = Counter(finding.severity for finding in findings)
    told = ", ".join(f"{counts[severity]} {severity}" for severity in Severity if counts[severity])
    return f"{len(findings)} finding{'' if len(findings) == 1 else 's'}: {told}" if findings else "no findings"


def findings_table(findings: Sequence[Finding]) -> Table:
    """Return one row a finding."""
    return Table(
        columns=("severity", "subject", "check", "finding", "place", "key"),
        rows=tuple(
            (
                str(finding.severity),
                finding.subject,
                finding.check,
                finding.message,
                finding.places[0].in_file(),
                finding.key,
            )
            for finding in findings
        ),
        may_fold=frozenset({"finding", "place"}),
        empty="Nothing risky or unexpected was found, as far as the evidence goes.",
    )


def findings_document(findings: Sequence[Finding], *, complete: bool) -> dict[str, Any]:
    """Return the JSON document of findings; `complete` says that no gap weakens it."""
    return {
        "schema": "fidelitas/findings/1",
        "complete": complete,
        "findings": [
            {
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
            }
            for finding in findings
        ],
    }
