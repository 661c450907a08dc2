"""Checks of directories: administrators that should be none, and accounts whose passwords can be worked out."""

from collections.abc import Iterator
from datetime import timedelta

from fidelitas.checks.check import Check, Found, check
from fidelitas.findings import Severity
from fidelitas.rights.directory import DirectoryRights
from fidelitas.rights.graph.links import PrincipalKind

__all__ = ["CHECKS"]


# lastLogonTimestamp is written when it is two weeks old; after this long nobody can still be in need of the rights.
_IDLE = timedelta(days=90)
# Who logs on at all, by SID: an administrative group that holds one of these holds everybody.
_EVERYBODY = frozenset({"S-1-1-0", "S-1-5-11", "S-1-5-7"})
_WHOLE_DOMAIN = frozenset({"513", "514", "515"})


def _administrators(rights: DirectoryRights) -> set[str]:
    holders = {holding.principal.name for holding in rights.holdings if holding.principal.kind is PrincipalKind.ACCOUNT}
    return holders & rights.accounts.keys()  # those of other domains have their own directory


@check("directory.disabled-administrator", Severity.MEDIUM, advice="Take it out of the group; delete it if nobody needs it.")
def disabled_administrator(rights: DirectoryRights) -> Iterator[Found]:
    """A disabled or expired account is in an administrative group.

    Whoever enables it again, a help desk for instance, makes an administrator without touching the group.
    """
    for name in sorted(_administrators(rights)):
        account = rights.accounts[name]
        expired = account.expires is not None and account.expires < rights.taken
        if account.disabled or expired:
            state = "disabled" if account.disabled else "expired"
            yield Found(about=name, message=f"{name} is {state} and in an administrative group", places=(account.place,))


@check("directory.password-never-expires", Severity.MEDIUM, advice="Let it expire, or use a managed service account.")
def password_never_expires(rights: DirectoryRights) -> Iterator[Found]:
    """The password of an administrator never expires.

    A hash that was taken once is good for ever.
    """
    for name in sorted(_administrators(rights)):
        account = rights.accounts[name]
        if account.password_never_expires and not account.disabled:
            yield Found(about=name, message=f"the password of administrator {name} never expires", places=(account.place,))


@check("directory.no-preauthentication", Severity.HIGH, advice="Ask for pre-authentication of the account again.")
def no_preauthentication(rights: DirectoryRights) -> Iterator[Found]:
    """An account needs no Kerberos pre-authentication.

    Anybody may have a ticket that its password encrypts, and try passwords on it at leisure.
    """
    for account in rights.facts.accounts:
        if account.no_preauthentication and not account.disabled:
            yield Found(about=account.name, message=f"{account.name} needs no pre-authentication", places=(account.place,))


@check("directory.delegation", Severity.HIGH, advice="Bound the delegation to the services that need it.")
def delegation(rights: DirectoryRights) -> Iterator[Found]:
    """An account is trusted to act as whoever connects to it, anywhere.

    An administrator who uses its service hands it their rights.
    """
    for account in rights.facts.accounts:
        if account.trusted_for_delegation and not account.disabled:
            yield Found(about=account.name, message=f"{account.name} is trusted for delegation to any service", places=(account.place,))


@check("directory.former-administrator", Severity.LOW, advice="Clear adminCount and let the object inherit permissions again.")
def former_administrator(rights: DirectoryRights) -> Iterator[Found]:
    """An account was an administrator and is none any more.

    Its object keeps the permissions of then, and is passed over when permissions are set anew.
    """
    now = _administrators(rights)
    for account in rights.facts.accounts:
        if account.once_administrator and account.name not in now and account.rid not in ("500", "502"):
            yield Found(about=account.name, message=f"{account.name} was an administrator once", places=(account.place,))


@check(
    "directory.service-administrator",
    Severity.HIGH,
    advice="Give the service an account of its own, managed, with the rights that it needs.",
)
def service_administrator(rights: DirectoryRights) -> Iterator[Found]:
    """An administrator's account is that of a service, by principal name.

    Anybody may have a ticket for the service, which its password encrypts, and try passwords on it at leisure.
    """
    for name in sorted(_administrators(rights)):
        account = rights.accounts[name]
        if account.service_names and not account.disabled:
            message = f"administrator {name} runs {account.service_names[0]}"
            yield Found(about=name, message=message, places=(account.place,))


@check("directory.idle-administrator", Severity.MEDIUM, advice="Ask whether the person still needs it; take it out of the group.")
def idle_administrator(rights: DirectoryRights) -> Iterator[Found]:
    """An administrator has not logged on for a quarter of a year.

    Nobody would notice if somebody else did.
    """
    for name in sorted(_administrators(rights)):
        account = rights.accounts[name]
        if account.last_logon is not None and rights.taken - account.last_logon > _IDLE and not account.disabled:
            days = (rights.taken - account.last_logon).days
            yield Found(about=name, message=f"administrator {name} last logged on {days} days before", places=(account.place,))


@check("directory.everyone-administrator", Severity.CRITICAL, advice="Take it out of the group; name the few who need it.")
def everyone_administrator(rights: DirectoryRights) -> Iterator[Found]:
    """Everybody is in an administrative group.

    One stolen password of anybody is the whole domain.
    """
    admins = {holding.principal for holding in rights.holdings}
    for group in rights.facts.groups:
        if group.sid is not None and rights.by_sid.get(group.sid) in admins:
            for member, place in rights.members(group):
                if member.rid in _WHOLE_DOMAIN or member.sid in _EVERYBODY:
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
)
