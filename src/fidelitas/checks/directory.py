"""Checks of directories: administrators that should be none, and accounts whose passwords can be worked out."""

from collections.abc import Iterator
from datetime import timedelta

from fidelitas.checks.check import Check, Found, check
from fidelitas.checks.directory_control import CONTROL_CHECKS
from fidelitas.facts import DirectoryKind
from fidelitas.findings import Severity
from fidelitas.rights.directory import DirectoryRights
from fidelitas.rights.directory.objects import is_of_all
from fidelitas.rights.graph.links import Holding, Mechanism, PrincipalKind

__all__ = ["CHECKS"]


# lastLogonTimestamp is written when it is two weeks old; after this long nobody can still be in need of the rights.
_IDLE = timedelta(days=90)
# Groups that hold every account, by the last number: people, guests, machines.
_WHOLE_DOMAIN = frozenset({"513", "514", "515"})


def _administrators(rights: DirectoryRights) -> set[str]:
    """Return the accounts that are in an administrative group; not those that could make themselves so."""
    holders = {one.principal.name for one in rights.holdings if one.principal.kind is PrincipalKind.ACCOUNT and _by_groups(one)}
    return holders & rights.accounts.keys()  # those of other domains have their own directory


def _by_groups(holding: Holding) -> bool:
    return any(all(link.mechanism is not Mechanism.PERMISSION for link in route.links) for route in holding.routes)


@check("directory.disabled-administrator", Severity.MEDIUM, advice="Remove the account from the group; delete it if nobody needs it.")
def disabled_administrator(rights: DirectoryRights) -> Iterator[Found]:
    """A disabled or expired account is in an administrative group.

    Enabling the account, which a help desk may do, creates an administrator without any change of the group.
    """
    for name in sorted(_administrators(rights)):
        account = rights.accounts[name]
        expired = account.expires is not None and account.expires < rights.taken
        if account.disabled or expired:
            state = "disabled" if account.disabled else "expired"
            yield Found(about=name, message=f"{name} is {state} and in an administrative group", places=(account.place,))


@check("directory.password-never-expires", Severity.MEDIUM, advice="Let the password expire, or use a managed service account.")
def password_never_expires(rights: DirectoryRights) -> Iterator[Found]:
    """The password of an administrator never expires.

    A stolen hash stays valid until someone changes the password.
    """
    for name in sorted(_administrators(rights)):
        account = rights.accounts[name]
        if account.password_never_expires and not account.disabled:
            yield Found(about=name, message=f"the password of administrator {name} never expires", places=(account.place,))


@check("directory.no-preauthentication", Severity.HIGH, advice="Require pre-authentication for the account.")
def no_preauthentication(rights: DirectoryRights) -> Iterator[Found]:
    """An account requires no Kerberos pre-authentication.

    Anyone can request data encrypted with the account's password and guess the password offline.
    """
    for account in rights.facts.accounts:
        if account.no_preauthentication and not account.disabled:
            name = rights.node(account).name
            yield Found(about=name, message=f"{name} requires no pre-authentication", places=(account.place,))


@check("directory.delegation", Severity.HIGH, advice="Limit the delegation to the services that need it.")
def delegation(rights: DirectoryRights) -> Iterator[Found]:
    """An account is trusted for unconstrained delegation.

    When an administrator uses its service, the service receives the administrator's ticket and can act as the administrator anywhere.
    """
    for account in rights.facts.accounts:
        if account.trusted_for_delegation and not account.disabled and not account.controller:
            name = rights.node(account).name
            yield Found(about=name, message=f"{name} is trusted for delegation to any service", places=(account.place,))


@check("directory.former-administrator", Severity.LOW, advice="Clear adminCount and let the object inherit permissions again.")
def former_administrator(rights: DirectoryRights) -> Iterator[Found]:
    """An account was an administrator and is not one any more.

    Its object keeps the permissions of an administrator and does not inherit new ones.
    """
    now = _administrators(rights)
    for account in rights.facts.accounts:
        name = rights.node(account).name
        if account.once_administrator and name not in now and account.rid not in ("500", "502"):
            yield Found(about=name, message=f"{name} was an administrator and is not one any more", places=(account.place,))


@check(
    "directory.service-administrator",
    Severity.HIGH,
    advice="Give the service its own managed account with only the rights that it needs.",
)
def service_administrator(rights: DirectoryRights) -> Iterator[Found]:
    """An administrator's account has a service principal name.

    Anyone can request a service ticket, which is encrypted with the account's password, and guess the password offline.
    """
    for name in sorted(_administrators(rights)):
        account = rights.accounts[name]
        if account.service_names and not account.disabled and account.kind is DirectoryKind.PERSON:
            message = f"administrator {name} is the account of service {account.service_names[0]}"
            yield Found(about=name, message=message, places=(account.place,))


@check("directory.idle-administrator", Severity.MEDIUM, advice="Ask whether the person still needs it; remove the account from the group.")
def idle_administrator(rights: DirectoryRights) -> Iterator[Found]:
    """An administrator has not logged on for three months.

    Nobody would notice if someone else used the account.
    """
    for name in sorted(_administrators(rights)):
        account = rights.accounts[name]
        if account.last_logon is not None and rights.taken - account.last_logon > _IDLE and not account.disabled:
            days = (rights.taken - account.last_logon).days
            yield Found(about=name, message=f"administrator {name} last logged on {days} days before the survey", places=(account.place,))


@check("directory.everyone-administrator", Severity.CRITICAL, advice="Remove the member from the group; add the few who need it by name.")
def everyone_administrator(rights: DirectoryRights) -> Iterator[Found]:
    """All accounts are in an administrative group.

    Any stolen password gives control of the domain.
    """
    admins = {holding.principal for holding in rights.holdings if _by_groups(holding)}
    for group in rights.groups:
        if rights.node(group) in admins:
            for member, place in rights.members(group):
                if member.rid in _WHOLE_DOMAIN or is_of_all(member.sid):
                    yield Found(about=member.name, message=f"{member.name} is in administrative group {group.name}", places=(place,))


CHECKS: tuple[Check[DirectoryRights], ...] = (
    disabled_administrator,
    password_never_expires,
    no_preauthentication,
    delegation,
    former_administrator,
    service_administrator,
    idle_administrator,
    everyone_administrator,
    *CONTROL_CHECKS,
)
