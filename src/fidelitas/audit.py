"""The whole flow, from evidence to findings: the map to read first.

    evidence ─ languages ─► facts ─ rights ─► holdings ─ checks ─► findings

Pure: evidence in, audit out.  Reaching hosts is the business of `sources`, keeping evidence that of `ledger`, showing an audit that of
`reports`.
"""

from collections.abc import Iterable
from dataclasses import dataclass

from fidelitas.checks import estate_findings, findings_of
from fidelitas.facts import Gap
from fidelitas.findings import Finding
from fidelitas.languages.host import HostEvidence, read_host
from fidelitas.memberships import Memberships, with_memberships
from fidelitas.rights import HostRights, rights_of

__all__ = ["Audit", "audit", "rights_in"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Audit:
    """What an estate's evidence amounts to: hosts by name, findings worst first."""

    hosts: tuple[HostRights, ...]
    findings: tuple[Finding, ...]

    @property
    def gaps(self) -> tuple[Gap, ...]:
        """Everything that could not be read."""
        return tuple(gap for host in self.hosts for gap in host.facts.gaps)


def rights_in(evidence: HostEvidence, memberships: Memberships | None = None) -> HostRights:
    """Return the rights on the host that the evidence is of; with `memberships` as they would be after that change."""
    facts = read_host(evidence)
    return rights_of(with_memberships(facts, memberships.changes(facts)) if memberships else facts)


def audit(evidence: Iterable[HostEvidence]) -> Audit:
    """Return the audit of the hosts that the evidence is of."""
    hosts = sorted((rights_in(bundle) for bundle in evidence), key=lambda host: host.subject)
    found = [finding for host in hosts for finding in findings_of(host)] + estate_findings(hosts)
    ordered = sorted(found, key=lambda finding: (finding.severity, finding.subject, finding.check, finding.places[0]))
    return Audit(hosts=tuple(hosts), findings=tuple(ordered))
