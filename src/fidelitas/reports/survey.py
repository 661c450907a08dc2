"""What `survey` says at once about each host: what it is, who can become root by which rule, and what is risky."""

from collections.abc import Sequence
from typing import Any

from fidelitas.findings import Finding
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.coverage import coverage_document
from fidelitas.reports.findings import findings_document
from fidelitas.reports.holders import Filter, holders_document, selected
from fidelitas.reports.subjects import words_of
from fidelitas.rights import SubjectRights

__all__ = ["subject_block", "survey_document"]


def subject_block(subject: SubjectRights) -> Block:
    """Return the head of the answer about a subject."""
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
