"""The checks of how privilege is used.  Apart from the others, since they bring the numerical libraries with them."""

from collections.abc import Iterable

from fidelitas.checks.check import Check
from fidelitas.checks.log_state import gone_lines, silent_gap, silent_host, time_backwards
from fidelitas.checks.privilege_use import (
    audit_edited,
    brief_membership,
    failure_burst,
    first_command,
    first_right,
    forged_line,
    log_edited,
    odd_hour,
    policy_edited,
    refused_outsider,
    refused_probe,
    root_log_in,
    root_shell,
    secret_read,
    spread_failures,
)
from fidelitas.facts import Place
from fidelitas.findings import Finding
from fidelitas.trouble import guarded
from fidelitas.usage import HostUse

__all__ = ["USE_CHECKS", "use_findings"]

USE_CHECKS: tuple[Check[HostUse], ...] = (
    failure_burst,
    spread_failures,
    refused_outsider,
    refused_probe,
    first_right,
    first_command,
    odd_hour,
    root_shell,
    secret_read,
    policy_edited,
    log_edited,
    audit_edited,
    root_log_in,
    brief_membership,
    forged_line,
    silent_gap,
    silent_host,
    time_backwards,
    gone_lines,
)


def use_findings(hosts: Iterable[HostUse]) -> list[Finding]:
    """Return what is out of order in the use of privilege on some hosts, the worst first."""
    found: list[Finding] = []
    for use in hosts:
        place = Place(subject=use.host, path="checks")
        for check in USE_CHECKS:
            found += guarded(check.findings(use), use.troubles, place, f"checking {check.name}", f"what the check {check.name} finds")
    return sorted(found, key=lambda finding: (finding.severity, finding.subject, finding.check, finding.about))
