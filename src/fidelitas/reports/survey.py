"""What `survey` says at once about each host: what it is, who can become root by which rule, and what is risky."""

from collections.abc import Sequence
from typing import Any

from fidelitas.findings import Finding
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.coverage import coverage_document
from fidelitas.reports.findings import findings_document
from fidelitas.reports.holders import Filter, holders_document, selected
from fidelitas.rights import AccountKind, HostRights, ServerRights, SubjectRights

__all__ = ["subject_block", "survey_document"]


def subject_block(subject: SubjectRights) -> Block:
    """Return the head of the answer about a host or a server."""
    if isinstance(subject, ServerRights):
        return Block(subject.subject, tuple(Row(line) for line in subject.head()))
    return _host_block(subject)


def _host_block(host: HostRights) -> Block:
    facts = host.facts
    kinds = [who.kind for who in host.population.effective]
    people, services = kinds.count(AccountKind.PERSON), kinds.count(AccountKind.SERVICE)
    system = facts.system.name if facts.system else "system not known"
    how = "" if facts.live else ", from a root folder"
    by = "" if facts.taken_by == 0 else f", by user ID {facts.taken_by} and not as root"
    rules = f"{len(facts.policy.rules)} sudo rules" if facts.policy.known else "sudo policy unknown: it could not be read"
    packaged = dict(facts.packages).get("sudo")
    package = f" (package {packaged})" if packaged else ""
    sudo = f"; sudo {facts.sudo_version}{package}" if facts.sudo_version else f"; sudo{package}" if package else ""
    rows = [
        Row(f"{system}; evidence of {facts.taken:%Y-%m-%d %H:%M} UTC{how}{by}{sudo}"),
        Row(f"{len(kinds)} accounts ({people} people, {services} services), {len(facts.groups)} groups, {rules}"),
    ]
    return Block(host.subject, tuple(rows))


def survey_document(hosts: Sequence[SubjectRights], findings: Sequence[Finding], survey: str | None) -> dict[str, Any]:
    """Return the JSON document of a survey: holdings, findings and coverage in one; `survey` names it in the ledger."""
    return {
        "schema": "fidelitas/survey/1",
        "survey": survey,
        "holders": holders_document(selected(hosts, Filter())),
        "findings": findings_document(findings, complete=not any(host.gaps for host in hosts)),
        "coverage": coverage_document(hosts),
    }
