"""What `survey` says at once about each host: what it is, who can become root by which rule, and what is risky."""

from collections.abc import Sequence
from typing import Any

from fidelitas.findings import Finding
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.coverage import coverage_document, coverage_table
from fidelitas.reports.findings import findings_blocks, findings_document, findings_table, tally
from fidelitas.reports.holders import Filter, holders_document, holders_table, selected
from fidelitas.reports.report import Part, Report
from fidelitas.reports.subjects import words_of
from fidelitas.rights import RightKind, SubjectRights

__all__ = ["survey_document", "survey_report"]

# What the table of a survey shows; other rights are counted.
_FURTHEST = (RightKind.ROOT, RightKind.ADMIN, RightKind.DB_SUPERUSER, RightKind.DB_HOST_ESCAPE, RightKind.DIRECTORY_ADMIN)


def survey_report(subjects: Sequence[SubjectRights], findings: Sequence[Finding], survey: str | None) -> Report:
    """Return an audit: each subject, its holders and findings; `survey` names it in the ledger."""
    return Report(
        parts=lambda: _parts(subjects, findings),
        rows=lambda: [holders_table(selected(subjects, Filter()), whole=True), findings_table(findings), coverage_table(subjects)],
        document=lambda: survey_document(subjects, findings, survey),
    )


def _parts(subjects: Sequence[SubjectRights], findings: Sequence[Finding]) -> list[Part]:
    every = selected(subjects, Filter())
    furthest = [row for row in every if row[1].right.kind in _FURTHEST]
    more = len(every) - len(furthest)
    return [
        *map(_subject, subjects),
        "\n",
        holders_table(furthest),
        f"and {more} holdings of lesser rights: see fidelitas holders\n" if more else "",
        f"\n{tally(findings)}\n\n",
        *findings_blocks(findings),
        "\n" if findings else "",
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
