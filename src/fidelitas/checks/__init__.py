"""Checks: what is risky or unexpected about the rights on a host.

Each is a pure generator over the rights; `CHECKS` lists them, importing a module registers nothing.
"""

from collections.abc import Iterable

from fidelitas.checks.accounts import empty_password, extra_root
from fidelitas.checks.check import Check, Found, check
from fidelitas.checks.estate import ESTATE_CHECKS
from fidelitas.checks.sudo_commands import (
    ban_by_exclusion,
    expired_rule,
    hands_over_root,
    loose_arguments,
    run_as_anybody,
    settable_environment,
    unused_alias,
)
from fidelitas.checks.sudo_files import (
    linked_command,
    missing_command,
    skipped_file,
    unread_file,
    writable_command,
    writable_policy,
    wrong_digests,
)
from fidelitas.checks.sudo_options import (
    kept_loader_variables,
    long_memory,
    no_log,
    no_terminal_needed,
    no_terminal_of_its_own,
    open_path,
    other_password,
    unasked_by_default,
)
from fidelitas.checks.sudo_rules import all_outside_admins, overridden_rule, unasked_all, unknown_name
from fidelitas.findings import Finding
from fidelitas.rights import HostRights

__all__ = ["CHECKS", "ESTATE_CHECKS", "Check", "Found", "check", "estate_findings", "findings_of"]

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
    hands_over_root,
    loose_arguments,
    ban_by_exclusion,
    settable_environment,
    run_as_anybody,
    expired_rule,
    unused_alias,
    unasked_by_default,
    long_memory,
    kept_loader_variables,
    other_password,
    no_log,
    writable_command,
    missing_command,
    linked_command,
    wrong_digests,
    open_path,
    no_terminal_of_its_own,
    no_terminal_needed,
)


def findings_of(rights: HostRights, checks: Iterable[Check] = CHECKS) -> list[Finding]:
    """Return all findings on a host, the worst first."""
    found = [finding for check in checks for finding in check.findings(rights)]
    return sorted(found, key=lambda finding: (finding.severity, finding.check, finding.places[0], finding.about))


def estate_findings(hosts: Iterable[HostRights]) -> list[Finding]:
    """Return what only all hosts together show."""
    hosts = tuple(hosts)
    return [finding for check in ESTATE_CHECKS for finding in check.findings(hosts)]
