"""Who exists on a host: accounts with their kind, their groups, and whether they can log in.

Knows how the C library and sudo find an account's groups, and how people are told from system accounts.  Knows nothing of rights.
The time of the evidence is an argument, never asked for.
"""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from enum import Enum
from functools import cached_property

from fidelitas.facts import Account, Group, HostFacts, LoginLimits, OperatingSystem, Password, PasswordState, Place, Shadow

__all__ = ["AccountKind", "Identity", "LogIn", "Membership", "Population", "admin_groups", "made_up_member", "populate"]


class AccountKind(Enum):
    """What stands behind an account."""

    ROOT = "root"
    PERSON = "person"
    SERVICE = "service"
    SYSTEM = "system"


class LogIn(Enum):
    """Whether an account can log in, as far as the account files tell."""

    PASSWORD = "with a password"  # noqa: S105
    FREELY = "without a password"
    NO_PASSWORD = "not with a password; keys were not read"  # noqa: S105
    KEY = "with a key"
    NEITHER = "no: it has no password and no key"
    REFUSED = "no: its shell refuses"
    EXPIRED = "no: it has expired"
    UNKNOWN = "not known: the shadow file was not read"

    @property
    def possible(self) -> bool | None:
        """Whether it can log in; ``None`` where that depends on what was not read."""
        return {"FREELY": True, "PASSWORD": True, "KEY": True, "NEITHER": False, "REFUSED": False, "EXPIRED": False}.get(self.name)


@dataclass(frozen=True, slots=True, kw_only=True)
class Membership:
    """An account's place in a group, by the group file's list or by the account's own primary group ID."""

    group: Group
    primary: bool
    place: Place


@dataclass(frozen=True, slots=True, kw_only=True)
class Identity:
    """One account of a host.  `password` is ``None`` where the shadow file was not read; `account_place` is its line."""

    name: str
    uid: int | None
    gid: int | None
    kind: AccountKind
    log_in: LogIn
    password: Password | None
    memberships: tuple[Membership, ...]
    account: Account | None  # None for a made-up member, by which a group's own rights are asked
    shadow: Shadow | None = None

    @property
    def gids(self) -> frozenset[int]:
        """All group IDs of the account, the primary one included."""
        own = frozenset(membership.group.gid for membership in self.memberships)
        return own if self.gid is None else own | {self.gid}


# Shells that let nobody in.  "sync" and its like run one harmless program and log out.
_REFUSING = frozenset({"nologin", "false", "true", "sync", "shutdown", "halt", "git-shell"})

# The group that a family of systems gives to its administrators, and the range of user IDs that it gives to people: what the
# distributions ship in their default policy and in login.defs(5).
_ADMIN_GROUPS: Mapping[str, tuple[str, ...]] = {
    "ubuntu": ("sudo", "admin"),
    "debian": ("sudo",),
    "rhel": ("wheel",),
    "centos": ("wheel",),
    "fedora": ("wheel",),
    "suse": ("wheel",),
    "arch": ("wheel",),
    "alpine": ("wheel",),
    "gentoo": ("wheel",),
    "freebsd": ("wheel",),
}
_ANY_FAMILY = ("sudo", "wheel")
_UID_RANGE = LoginLimits(uid_min=1000, uid_max=60000)
# Red Hat's sixth release and its kin, the last that began at 500.
_OLD_UID_RANGE = LoginLimits(uid_min=500, uid_max=60000)


def admin_groups(system: OperatingSystem | None) -> tuple[str, ...]:
    """Return the names of the group that administrators are meant to be in; all that are common where the system is not known."""
    for name in system.family if system else ():
        if name in _ADMIN_GROUPS:
            return _ADMIN_GROUPS[name]
    return _ANY_FAMILY


def _uid_range(facts: HostFacts) -> tuple[int, int]:
    system, stated = facts.system, facts.login_limits
    old = system is not None and {"rhel", "centos"} & set(system.family) and system.version.partition(".")[0] in ("4", "5", "6")
    usual = _OLD_UID_RANGE if old else _UID_RANGE
    lowest = stated.uid_min if stated.uid_min is not None else usual.uid_min
    highest = stated.uid_max if stated.uid_max is not None else usual.uid_max
    return lowest or 0, highest or 0


@dataclass(frozen=True)
class Population:
    """Who exists on one host.  Where two lines give one name, the first counts, as it does for getpwnam(3)."""

    identities: tuple[Identity, ...]  # every line of the passwd file, in its order
    groups: tuple[Group, ...]
    admin_groups: tuple[str, ...]

    @cached_property
    def by_name(self) -> Mapping[str, Identity]:
        """Each name's account."""
        return {identity.name: identity for identity in reversed(self.identities)}

    @cached_property
    def group_names(self) -> Mapping[int, str]:
        """The name of each group ID: the first line that has it, as for getgrgid(3)."""
        return {group.gid: group.name for group in reversed(self.groups)}

    @cached_property
    def effective(self) -> tuple[Identity, ...]:
        """The accounts that can be had by name: one for each name."""
        return tuple(identity for identity in self.identities if self.by_name[identity.name] is identity)

    @cached_property
    def _first_of_uid(self) -> Mapping[int, Identity]:
        return {identity.uid: identity for identity in reversed(self.identities) if identity.uid is not None}

    def by_uid(self, uid: int) -> Identity | None:
        """Return the account that a user ID stands for: the first line that has it, as for getpwuid(3)."""
        return self._first_of_uid.get(uid)

    def as_invoker(self, who: Identity) -> Identity:
        """Return an account as sudo sees it when it asks: by its user ID, so under the first name that has it.

        The groups are those that it logged in with, its own.
        """
        first = who if who.uid is None else self._first_of_uid.get(who.uid, who)
        return who if first is who else replace(first, memberships=who.memberships)

    def members(self, name: str) -> tuple[Identity, ...]:
        """Return the accounts in a group."""
        return tuple(who for who in self.effective if any(membership.group.name == name for membership in who.memberships))


def made_up_member(gid: int | None = None) -> Identity:
    """Return an account that nobody has, in one group or in none: by it a group's own rights, and anybody's, are asked."""
    return Identity(
        name="\0",  # a name that no account file can hold
        uid=None,
        gid=gid,
        kind=AccountKind.PERSON,
        log_in=LogIn.UNKNOWN,
        password=None,
        memberships=(),
        account=None,
    )


def populate(facts: HostFacts) -> Population:
    """Return who exists on a host."""
    shadows = None if facts.shadows is None else {shadow.name: shadow for shadow in reversed(facts.shadows)}
    listed: dict[str, list[Group]] = {}
    by_gid: dict[int, list[Group]] = {}
    for group in facts.groups:
        by_gid.setdefault(group.gid, []).append(group)
        for member in dict.fromkeys(group.members):
            listed.setdefault(member, []).append(group)
    limits = _uid_range(facts)
    identities = []
    for account in facts.accounts:
        own = [Membership(group=group, primary=False, place=group.place) for group in listed.get(account.name, ())]
        primary = [Membership(group=group, primary=True, place=account.place) for group in by_gid.get(account.gid, ())[:1]]
        shadow = shadows.get(account.name) if shadows else None
        identities.append(_identity(account, shadow, shadows is not None, (*primary, *own), limits, facts.taken))
    return Population(identities=tuple(identities), groups=facts.groups, admin_groups=admin_groups(facts.system))


def _identity(
    account: Account,
    shadow: Shadow | None,
    shadow_read: bool,
    memberships: tuple[Membership, ...],
    limits: tuple[int, int],
    now: datetime,
) -> Identity:
    password = _password(account, shadow, shadow_read)
    log_in = _log_in(account, password, shadow, now)
    kind = _kind(account, password, log_in, limits)
    return Identity(
        name=account.name,
        uid=account.uid,
        gid=account.gid,
        kind=kind,
        log_in=log_in,
        password=password,
        memberships=memberships,
        account=account,
        shadow=shadow,
    )


def _password(account: Account, shadow: Shadow | None, shadow_read: bool) -> Password | None:
    """Return the state of the password.  An ``x`` without a line in the shadow file matches no password."""
    if account.password.state is not PasswordState.SHADOWED:
        return account.password
    if shadow is not None:
        return shadow.password
    return Password(state=PasswordState.NONE) if shadow_read else None


def _log_in(account: Account, password: Password | None, shadow: Shadow | None, now: datetime) -> LogIn:
    if account.shell.rpartition("/")[2] in _REFUSING:
        return LogIn.REFUSED
    if shadow is not None and _expired(shadow, now):
        return LogIn.EXPIRED
    if password is None:
        return LogIn.UNKNOWN
    return {PasswordState.USABLE: LogIn.PASSWORD, PasswordState.EMPTY: LogIn.FREELY}.get(password.state, LogIn.NO_PASSWORD)


def _expired(shadow: Shadow, now: datetime) -> bool:
    """shadow(5): the account's own date is past, or the password has been out of date for longer than the time of grace"""
    today = int(now.timestamp() // 86400)
    if shadow.expiry is not None and today >= shadow.expiry:
        return True
    parts = (shadow.last_change, shadow.maximum_age, shadow.inactivity)
    return None not in parts and today > sum(part for part in parts if part is not None)


def _kind(account: Account, password: Password | None, log_in: LogIn, limits: tuple[int, int]) -> AccountKind:
    """Tell people from services: by the user ID range of the host, then by shell and by whether there ever was a password.

    A person has a shell and a password, be it locked or expired.  An account of the people's range without either is a service; so is
    one of the system's range that can log in.
    """
    if account.uid == 0:
        return AccountKind.ROOT
    had_password = password is None or password.algorithm is not None or password.state in (PasswordState.USABLE, PasswordState.EMPTY)
    shell = log_in is not LogIn.REFUSED
    if limits[0] <= account.uid <= limits[1]:
        return AccountKind.PERSON if shell and had_password else AccountKind.SERVICE
    return AccountKind.SERVICE if shell and password is not None and had_password else AccountKind.SYSTEM
