"""Who exists on a host: accounts with their kind, their groups, and whether they can log in.

Knows how the C library and sudo find an account's groups, and how people are told from system accounts.  Knows nothing of rights.
The time of the evidence is an argument, never asked for.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from functools import cached_property
from typing import TypeVar

from msgspec import Struct
from msgspec.structs import replace

from fidelitas.equality import equal_apart_from
from fidelitas.facts import Account, Group, HostFacts, LoginLimits, OperatingSystem, Password, PasswordState, Shadow
from fidelitas.rights.accounts.from_directory import DIRECTORY_SOURCES
from fidelitas.rights.accounts.identity import AccountKind, Identity, Login, Membership, synthetic_member
from fidelitas.rights.accounts.nesting import Nesting
from fidelitas.rights.linux.dates import ends_of

__all__ = [
    "AccountKind",
    "Identity",
    "Login",
    "Membership",
    "Population",
    "admin_groups",
    "populate",
    "synthetic_member",
    "uses_directory",
]


K = TypeVar("K")
V = TypeVar("V")

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
# The user IDs that login.defs(5) gives to people where it does not say.
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


@equal_apart_from("nesting")
class Population(Struct, frozen=True, dict=True):
    """Who exists on one host.  Where two lines give one name, the first counts, as it does for getpwnam(3)."""

    identities: tuple[Identity, ...]  # every line of the passwd file, in its order
    groups: tuple[Group, ...]
    admin_groups: tuple[str, ...]
    nesting: Nesting | None = None

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

    def meant_by(self, holder: str) -> tuple[str, ...]:
        """Return the accounts, and the groups as ``%name``, that a name can mean: also by another name that their directory has for them.

        An account or group of the host's own is meant by its own name alone.
        """
        exact = holder in self.by_name or (holder.startswith("%") and holder.removeprefix("%") in self.own_group_names)
        called = self.nesting.meant_by(holder, alike=not exact) if self.nesting is not None else ()
        taken = (one for one in called if one.startswith("%") or one not in self.by_name or self.by_name[one].of_directory)
        return tuple(dict.fromkeys((*((holder,) if exact else ()), *taken)))

    @cached_property
    def own_group_names(self) -> frozenset[str]:
        """The names of the groups."""
        return frozenset(group.name for group in self.groups)

    @cached_property
    def ordinary(self) -> tuple[Identity, ...]:
        """The accounts without root's user ID."""
        return tuple(who for who in self.effective if who.uid != 0)

    @cached_property
    def of_directory(self) -> tuple[Identity, ...]:
        """The accounts that come from a directory."""
        return tuple(who for who in self.effective if who.of_directory)

    @cached_property
    def _members_by_gid(self) -> Mapping[int, list[Identity]]:
        """The members of each group ID; without those that only a directory knows of, which knows them for all hosts."""
        members: dict[int, list[Identity]] = {}
        known = self.nesting.identities if self.nesting is not None else {}
        for who in self.effective:
            if known.get(who.name) is who:
                continue
            own = {one.group.gid for one in who.memberships if not one.nested} if who.of_directory else who.gids
            for gid in sorted(own):
                members.setdefault(gid, []).append(who)
        return members

    # What is looked up by user ID and by name is kept for the host's own lines; a directory keeps its accounts for all hosts.

    @cached_property
    def _local(self) -> tuple[Identity, ...]:
        return tuple(who for who in self.identities if not who.of_directory)

    def _as_here(self, found: Iterable[Identity]) -> Iterator[Identity]:
        """Yield accounts of the directory as this host has them; one whose name is a local account's is not here."""
        for one in found:
            who = self.by_name.get(one.name)
            if who is not None and who.of_directory:
                yield who

    @cached_property
    def _first_of_uid(self) -> Mapping[int, Identity]:
        own = {identity.uid: identity for identity in reversed(self._local) if identity.uid is not None}
        return {**self.nesting.first_of_uid, **own} if self.nesting is not None and self._has_directory_unchanged else own

    def by_uid(self, uid: int) -> Identity | None:
        """Return the account that a user ID stands for: the first line that has it, as for getpwuid(3)."""
        own = self._first_of_uid.get(uid)
        if own is not None or self.nesting is None or self._has_directory_unchanged:
            return own
        return next(self._as_here(self.nesting.of_uid(uid)), None)

    def as_invoker(self, who: Identity) -> Identity:
        """Return an account as sudo sees it when it asks: by its user ID, so under the first name that has it.

        The groups are those that it logged in with, its own.
        """
        first = self._first_of.get(who.name)
        return who if first is None else replace(first, memberships=who.memberships)

    @cached_property
    def under_one_id(self) -> tuple[tuple[Identity, Identity], ...]:
        """The accounts whose user ID stands for another account, each with that."""
        firsts = ((who, self.by_uid(who.uid)) for who in self.effective if who.uid is not None)
        return tuple((who, first) for who, first in firsts if first is not None and first is not who)

    @cached_property
    def _first_of(self) -> Mapping[str, Identity]:
        return {who.name: first for who, first in self.under_one_id}

    @cached_property
    def _by_folded_name(self) -> Mapping[str, list[Identity]]:
        return _grouped((who.name.lower(), who) for who in self._local if self.by_name[who.name] is who)

    @cached_property
    def _by_uid(self) -> Mapping[int | None, list[Identity]]:
        return _grouped((who.uid, who) for who in self._local if self.by_name[who.name] is who)

    @cached_property
    def _gids_by_folded_name(self) -> Mapping[str, list[int]]:
        shared = len(self.nesting.groups) if self.nesting is not None else 0
        return _grouped((group.name.lower(), group.gid) for group in self.groups[: len(self.groups) - shared])

    def called(self, name: str) -> Sequence[Identity]:
        """Return the accounts of a name, whatever the case of its letters."""
        own = self._by_folded_name.get(name.lower(), ())
        return own if self.nesting is None else [*own, *self._as_here(self.nesting.called(name.lower()))]

    def of_uid(self, uid: int) -> Sequence[Identity]:
        """Return all accounts with a user ID."""
        own = self._by_uid.get(uid, ())
        return own if self.nesting is None else [*own, *self._as_here(self.nesting.of_uid(uid))]

    def gids_called(self, name: str) -> Sequence[int]:
        """Return the IDs of the groups of a name, whatever the case of its letters."""
        own = self._gids_by_folded_name.get(name.lower(), ())
        return own if self.nesting is None else [*own, *self.nesting.gids_called(name.lower())]

    def in_gid(self, gid: int) -> Sequence[Identity]:
        """Return the accounts that have a group ID, in their order."""
        if gid not in self._all_by_gid:
            here = self._members_by_gid.get(gid, [])
            there = self.nesting.accounts_in(gid) if self.nesting is not None else ()
            if self._changed.isdisjoint(self.nesting.names_in(gid) if self.nesting is not None else ()):
                self._all_by_gid[gid] = [*here, *there] if here else there
            else:
                names = {who.name for who in here}
                known = ((who, self.by_name[who.name]) for who in there if who.name not in names)
                self._all_by_gid[gid] = [*here, *(one for who, one in known if one is who or one.of_directory)]
        return self._all_by_gid[gid]

    @cached_property
    def _changed(self) -> set[str]:
        """The names of accounts that are not just as the directory has them: local ones, and those that a local group lists."""
        known = self.nesting.identities if self.nesting is not None else {}
        return {name for name, who in self.by_name.items() if known.get(name) is not who}

    @cached_property
    def _has_directory_unchanged(self) -> bool:
        """Whether every account of the directory is here just as the directory has it."""
        return self.nesting is not None and self._changed.isdisjoint(self.nesting.identities)

    @cached_property
    def _all_by_gid(self) -> dict[int, Sequence[Identity]]:
        return {}

    def members(self, name: str) -> tuple[Identity, ...]:
        """Return the accounts in a group."""
        if self.nesting is None or not self._has_directory_unchanged:
            return tuple(self._members_by_name.get(name, ()))
        own = (who for who in self._local if self.by_name[who.name] is who and any(one.group.name == name for one in who.memberships))
        return (*own, *self.nesting.members_called(name))

    @cached_property
    def _members_by_name(self) -> Mapping[str, list[Identity]]:
        return _grouped((name, who) for who in self.effective for name in dict.fromkeys(one.group.name for one in who.memberships))

    def has_group(self, name: str) -> bool:
        """Return whether there is a group of a name, whatever the case of its letters."""
        folded = name.lower()
        return folded in self._gids_by_folded_name or (self.nesting is not None and folded in self.nesting.folded_group_names)


def _grouped(pairs: Iterable[tuple[K, V]]) -> dict[K, list[V]]:
    found: dict[K, list[V]] = {}
    for key, value in pairs:
        found.setdefault(key, []).append(value)
    return found


def populate(facts: HostFacts, nesting: Nesting | None = None) -> Population:
    """Return who exists on a host; with the accounts and groups of a directory where the host looks them up there."""
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
    population = Population(identities=tuple(identities), groups=facts.groups, admin_groups=admin_groups(facts.system))
    return _joined(population, nesting, listed) if nesting is not None and uses_directory(facts) else population


def uses_directory(facts: HostFacts) -> bool:
    """Return whether a host takes accounts or groups from a directory."""
    services = (service for service in facts.name_services if service.database in ("passwd", "group"))
    return any(source in DIRECTORY_SOURCES for service in services for source in service.sources)


def _joined(population: Population, nesting: Nesting, listed: Mapping[str, list[Group]]) -> Population:
    """Return the population with a directory's accounts after the host's own, whose names count first."""
    joined: Iterable[Identity] = nesting.identities.values()
    changed = {who.name for who in population.identities} | listed.keys()
    if not nesting.identities.keys().isdisjoint(changed):
        own = {who.name for who in population.identities}
        joined = [_listed_here(who, listed.get(name, ())) for name, who in nesting.identities.items() if name not in own]
    return replace(
        population,
        identities=(*population.identities, *joined),
        groups=(*population.groups, *nesting.groups.values()),
        nesting=nesting,
    )


def _listed_here(who: Identity, groups: Sequence[Group]) -> Identity:
    """Return an account of a directory with the groups of the host's own file that list it."""
    if not groups:
        return who
    here = (Membership(group=group, primary=False, place=group.place) for group in groups)
    return replace(who, memberships=(*who.memberships, *here))


def _identity(
    account: Account,
    shadow: Shadow | None,
    shadow_read: bool,
    memberships: tuple[Membership, ...],
    limits: tuple[int, int],
    now: datetime,
) -> Identity:
    password = _password(account, shadow, shadow_read)
    login = _login(account, password, shadow, now)
    kind = _kind(account, password, login, limits)
    return Identity(
        name=account.name,
        uid=account.uid,
        gid=account.gid,
        kind=kind,
        login=login,
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


def _login(account: Account, password: Password | None, shadow: Shadow | None, now: datetime) -> Login:
    if account.shell.rpartition("/")[2] in _REFUSING:
        return Login.REFUSED
    if shadow is not None and any(end <= now.timestamp() for end in ends_of(shadow)):
        return Login.EXPIRED
    if password is None:
        return Login.UNKNOWN
    return {PasswordState.USABLE: Login.PASSWORD, PasswordState.EMPTY: Login.FREELY}.get(password.state, Login.NO_PASSWORD)


def _kind(account: Account, password: Password | None, login: Login, limits: tuple[int, int]) -> AccountKind:
    """Tell people from services: by the user ID range of the host, then by shell and by whether there ever was a password.

    A person has a shell and a password, be it locked or expired.  An account of the people's range without either is a service; so is
    one of the system's range that can log in.
    """
    if account.uid == 0:
        return AccountKind.ROOT
    had_password = password is None or password.algorithm is not None or password.state in (PasswordState.USABLE, PasswordState.EMPTY)
    shell = login is not Login.REFUSED
    if limits[0] <= account.uid <= limits[1]:
        return AccountKind.PERSON if shell and had_password else AccountKind.SERVICE
    return AccountKind.SERVICE if shell and password is not None and had_password else AccountKind.SYSTEM
