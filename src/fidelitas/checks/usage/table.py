"""The checks of how privilege is used.  Apart from the others, since they bring the numerical libraries with them."""

from collections.abc import Iterable

from fidelitas.checks.check import Check
from fidelitas.checks.usage import log_state, privilege_use
from fidelitas.facts import Place
from fidelitas.findings import Finding
from fidelitas.trouble import guarded
from fidelitas.usage import HostUse

__all__ = ["USE_CHECKS", "use_findings"]

USE_CHECKS: tuple[Check[HostUse], ...] = (*privilege_use.CHECKS, *log_state.CHECKS)


def use_findings(hosts: Iterable[HostUse]) -> list[Finding]:
    """Return what is out of order in the use of privilege on some hosts, the worst first."""
    found: list[Finding] = []
    for use in hosts:
        place = Place(subject=use.host, path="checks")
        for check in USE_CHECKS:
            found += guarded(check.findings(use), use.troubles, place, f"checking {check.name}", f"what the check {check.name} finds")
    return sorted(found, key=lambda finding: (finding.severity, finding.subject, finding.check, finding.about))
