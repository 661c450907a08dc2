"""Checks: what is risky or unexpected about the rights on a host.

Each is a pure generator over the rights; `CHECKS` lists them, importing a module registers nothing.
"""

from collections.abc import Iterable

from fidelitas.checks.accounts import empty_password, extra_root
from fidelitas.checks.check import Check, Found, check
from fidelitas.checks.sudo import all_outside_admins, overridden_rule, skipped_file, unasked_all, unknown_name, unread_file, writable_policy
from fidelitas.findings import Finding
from fidelitas.rights import HostRights

__all__ = ["CHECKS", "Check", "Found", "check", "findings_of"]

CHECKS: tuple[Check, ...] = (
    extra_root,
    empty_password,
    all_outside_admins,
    unasked_all,
    unknown_name,
    writable_policy,
    overridden_rule,
    skipped_file,
    unread_file,
)


def findings_of(rights: HostRights, checks: Iterable[Check] = CHECKS) -> list[Finding]:
    """Return all findings on a host, the worst first."""
    found = [finding for check in checks for finding in check.findings(rights)]
    return sorted(found, key=lambda finding: (finding.severity, finding.check, finding.places[0], finding.about))
