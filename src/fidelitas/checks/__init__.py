"""Checks: what is risky or unexpected about the rights on a host.

Each is a pure generator over the rights; `CHECKS` lists them, importing a module registers nothing.
"""

from collections.abc import Iterable
from typing import Protocol, TypeVar

from fidelitas.checks import directory, mariadb, windows
from fidelitas.checks.accounts import empty_password, extra_root
from fidelitas.checks.check import Check, EstateCheck, Found, check
from fidelitas.checks.estate import unknown_host
from fidelitas.checks.groups import conferring_group, lent_group, not_yet_in_force, revoked_yet_active
from fidelitas.checks.log_ins import (
    kept_database_password,
    key_for_many,
    root_by_password,
    su_unasked,
    taken_empty_password,
    unlocked_private_key,
    writable_keys,
)
from fidelitas.checks.postgresql import (
    clear_password,
    definer_function,
    everybody_writes,
    expired_password,
    extra_superuser,
    open_default,
    open_door,
    outdated_password,
    outlived_session,
    reaches_host,
    reaching_extension,
    self_made_superuser,
    stored_password,
    untrusted_function,
)
from fidelitas.checks.programs import added_bit, changed_program, escaping_program, foreign_copies, stray_program, writable_program
from fidelitas.checks.running import (
    open_export,
    open_search_path,
    unasked_doas,
    unasked_polkit,
    weak_kernel_setting,
    writable_by_others,
)
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
from fidelitas.facts import Gap, Place
from fidelitas.findings import Finding
from fidelitas.rights import DatabaseRights, DirectoryRights, HostRights, MariadbRights, WindowsRights
from fidelitas.trouble import guarded

__all__ = [
    "CHECKS",
    "DATABASE_CHECKS",
    "DIRECTORY_CHECKS",
    "ESTATE_CHECKS",
    "MARIADB_CHECKS",
    "WINDOWS_CHECKS",
    "Check",
    "Found",
    "check",
    "estate_findings",
    "findings_of",
    "run_checks",
]

CHECKS: tuple[Check[HostRights], ...] = (
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
    escaping_program,
    changed_program,
    stray_program,
    foreign_copies,
    added_bit,
    writable_program,
    conferring_group,
    lent_group,
    revoked_yet_active,
    not_yet_in_force,
    writable_by_others,
    open_search_path,
    open_export,
    unasked_doas,
    unasked_polkit,
    weak_kernel_setting,
    root_by_password,
    taken_empty_password,
    su_unasked,
    writable_keys,
    kept_database_password,
    unlocked_private_key,
)
ESTATE_CHECKS: tuple[EstateCheck, ...] = (unknown_host, key_for_many)

DATABASE_CHECKS: tuple[Check[DatabaseRights], ...] = (
    open_door,
    extra_superuser,
    self_made_superuser,
    reaches_host,
    definer_function,
    untrusted_function,
    everybody_writes,
    clear_password,
    outdated_password,
    expired_password,
    outlived_session,
    open_default,
    reaching_extension,
    stored_password,
)
MARIADB_CHECKS: tuple[Check[MariadbRights], ...] = (
    mariadb.anonymous_account,
    mariadb.empty_password,
    mariadb.administrator_from_anywhere,
    mariadb.hidden_administrator,
    mariadb.not_in_force,
    mariadb.outdated_login,
    mariadb.wide_database_name,
    mariadb.definer_object,
    mariadb.socket_administrator,
    mariadb.outlived_login,
)
DIRECTORY_CHECKS: tuple[Check[DirectoryRights], ...] = (
    directory.everybody_administers,
    directory.no_preauthentication,
    directory.delegated_account,
    directory.service_administrator,
    directory.stale_administrator,
    directory.administrator_never_expires,
    directory.idle_administrator,
    directory.former_administrator,
)
WINDOWS_CHECKS: tuple[Check[WindowsRights], ...] = (
    windows.everybody_administers,
    windows.replaceable_program,
    windows.unquoted_path,
    windows.powerful_user_right,
    windows.elevating_installer,
    windows.kept_password,
    windows.account_without_password,
    windows.changed_in_session,
    windows.job_of_administrator,
    windows.disabled_administrator,
    windows.password_never_expires,
    windows.guest_enabled,
    windows.no_consent,
    windows.remote_local_administrators,
    windows.unknown_administrator,
)


def findings_of(rights: HostRights, checks: Iterable[Check[HostRights]] = CHECKS) -> list[Finding]:
    """Return all findings on a host, the worst first."""
    return sorted(run_checks(checks, rights), key=lambda finding: (finding.severity, finding.check, finding.places[0], finding.about))


class _Judged(Protocol):
    @property
    def subject(self) -> str: ...
    @property
    def troubles(self) -> list[Gap]: ...


J = TypeVar("J", bound=_Judged)


def run_checks(checks: Iterable[Check[J]], rights: J) -> list[Finding]:
    """Return what some checks find of a subject; one that fails unexpectedly costs itself, and is a gap of the subject."""
    found: list[Finding] = []
    place = Place(subject=rights.subject, path="checks")
    for one in checks:
        found += guarded(one.findings(rights), rights.troubles, place, f"checking {one.name}", f"what the check {one.name} finds")
    return found


def estate_findings(hosts: Iterable[HostRights]) -> list[Finding]:
    """Return what only all hosts together show."""
    hosts = tuple(hosts)
    return [finding for check in ESTATE_CHECKS for finding in check.findings(hosts)]
