"""What a Unix host takes from a directory: accounts and groups with numbers, the groups between them, and sudo rules.

How a host writes the names, and whether accounts without a number are there, is by its own files; so is which directories it takes as one.
"""

from collections.abc import Iterator, Mapping, Sequence

from msgspec.structs import replace

from fidelitas.distinguished_names import realm_of
from fidelitas.facts import (
    ON_THE_WAY,
    Account,
    Directory,
    DirectoryAccount,
    DirectoryGroup,
    DirectoryKind,
    DirectoryMember,
    DirectorySource,
    MemberNaming,
    Password,
    PasswordState,
    StatedGroup,
    joined_policies,
)
from fidelitas.rights.directory.objects import Thing
from fidelitas.rights.directory.rights import DirectoryRights
from fidelitas.rights.directory.sid_numbers import number_of
from fidelitas.rights.directory.view import View

__all__ = ["AsTaken", "as_one", "for_hosts"]

# What a host takes though the directory has no number for it, where it makes numbers of SIDs.
_NUMBERED = frozenset({DirectoryKind.PERSON, DirectoryKind.SERVICE, DirectoryKind.COMPUTER})


# Numbers that the directory does not state begin below zero, those of another directory of the same host far from them.
_FAR = 10_000_000


def for_hosts(rights: DirectoryRights, source: DirectorySource | None = None, number: int = 0) -> Directory:
    """Return what a Unix host takes from a directory, which its own files name as a `source`, the host's first (0) or a further one."""
    return AsTaken(rights, source, number).directory()


def as_one(directories: Sequence[Directory]) -> Directory:
    """Return several directories as a host has them that asks one after the other: of two accounts of one name the first counts."""
    first, *more = directories
    policies = [one.policy for one in directories if one.policy is not None]
    return replace(
        first,
        primary_leads_on=all(one.primary_leads_on for one in directories),
        accounts=tuple(account for one in directories for account in one.accounts),
        groups=tuple(group for one in directories for group in one.groups),
        netgroups=tuple(netgroup for one in directories for netgroup in one.netgroups),
        policy=joined_policies(policies) if more and policies else first.policy,
    )


class AsTaken:
    """The objects of a directory under the names and numbers that a host has for them."""

    def __init__(self, rights: DirectoryRights, source: DirectorySource | None, number: int = 0) -> None:
        self._rights, self._source = rights, source
        self._made = source is not None and source.numbers_made
        self._view = View(source)
        all_lead_on = source is not None and source.naming in (MemberNaming.DNS, MemberNaming.LOGON)
        self._groups = (*rights.facts.groups, *rights.groups_named_only) if all_lead_on else rights.groups
        self._first = -2 - number * _FAR

    def directory(self) -> Directory:
        """Return them as facts."""
        rights, stated = self._rights, self._groups
        gids = {id(group): self._gid(group, at) for at, group in enumerate(stated)}
        by_sid = {group.sid: gids[id(group)] for group in stated if group.sid}
        groups = tuple(
            DirectoryGroup(name=self.name(group), gid=gids[id(group)], members=tuple(self._members(group)), place=group.place)
            for group in stated
            if self._view.sees_group(group)
        )
        found = (self._account(account, at, by_sid) for at, account in enumerate(rights.facts.accounts))
        accounts = tuple(account for account in found if account is not None)
        source, policy = self._source, rights.facts.policy
        return Directory(
            subject=rights.subject,
            accounts=accounts,
            groups=(*groups, *map(_own_group, accounts)) if source is not None and source.own_groups else groups,
            policy=self._view.rules_of(policy) if policy is not None and (source is None or source.takes_rules) else None,
            netgroups=rights.facts.netgroups,
            rule_search=source.rule_search if source is not None else None,
            primary_leads_on=source is None or source.primary_leads_on,
        )

    def name(self, one: Thing) -> str:
        """Return what a host calls an account or group."""
        short, source = self._short(one), self._source
        realm = realm_of(one.dn) if source is not None and source.realms and one.sid else ""
        if source is None:
            return short
        own = not realm or realm in source.realms
        form = source.form if own or source.form != "{name}" else "{name}@{domain}"  # sssd always qualifies names of another domain
        if form == "{name}":
            return short
        domain = source.name if own else realm
        filled = form.replace("{domain}", domain).replace("{short}", self._rights.short_name_of(realm or domain.lower()))
        return filled.replace("{name}", short)

    def _short(self, one: Thing) -> str:
        """Return the name as the C library gives it, where the object has a number; else what identifies it."""
        name, source = one.name if self._made else self._stated_name(one), self._source
        if source is not None and source.space and not (source.spares_names and source.space in name):
            name = name.replace(" ", source.space)
        return name.lower() if source is not None and source.lower_case else name

    def _stated_name(self, one: Thing) -> str:
        posix = getattr(one, "posix", None)
        if posix is not None:
            return str(posix.name)
        return one.name if isinstance(one, StatedGroup) and one.gid is not None else self._rights.node(one).name

    def _members(self, group: StatedGroup) -> Iterator[DirectoryMember]:
        source, rights = self._source, self._rights
        found = rights.members(group) if source is None else rights.members_named(group, source.naming, source.member_attribute)
        first = rights.members_by_primary(group) if source is not None and source.own_primary else ()
        for one, place in (*found, *first):
            if source is None or source.nests or not isinstance(one, StatedGroup):
                yield DirectoryMember(name=self.name(one), is_group=isinstance(one, StatedGroup), place=place)

    def _gid(self, group: StatedGroup, at: int) -> int:
        if not self._view.numbers_group(group):
            return ON_THE_WAY + self._first - at
        if self._made and group.sid is not None:
            return self._number(group.sid, group.dn, at)
        return group.gid if group.gid is not None else ON_THE_WAY + self._first - at

    def _account(self, account: DirectoryAccount, at: int, gids: Mapping[str, int]) -> Account | None:
        if not self._view.sees_account(account):
            return None
        if not self._made or account.sid is None:
            return account.posix if account.posix is None or self._source is None else self._renamed(account, account.posix)
        if account.kind not in _NUMBERED:
            return None
        rid = account.primary_rid if self._source is None or self._source.primary_rid is None else self._source.primary_rid
        primary = f"{account.sid.rpartition('-')[0]}-{rid}"
        uid = self._number(account.sid, account.dn, at)
        return Account(
            name=self.name(account),
            password=Password(state=PasswordState.SHADOWED),
            uid=uid,
            gid=self._primary(uid, gids.get(primary, -1)),
            comment=account.full_name,
            home="/",
            shell="",
            place=account.place,
        )

    def _number(self, sid: str, dn: str, at: int) -> int:
        """Return the number that the host makes of a SID; one below zero where that is not known, as of other domains in one slice."""
        source = self._source
        made = source.sid_numbers if source is not None else None
        if source is None or made is None or (made.slices == 1 and realm_of(dn) not in source.realms):
            return self._first - at
        number = number_of(sid, made)
        return self._first - at if number is None else number

    def _primary(self, uid: int, gid: int) -> int:
        """Return the primary group of an account: one that the host says for all, or that is its own, else what the directory states."""
        source = self._source
        if source is None or (source.primary is None and not source.own_primary):
            return gid
        return _own_gid(uid) if source.primary is None else source.primary

    def _renamed(self, account: DirectoryAccount, posix: Account) -> Account:
        return replace(posix, name=self.name(account), gid=self._primary(posix.uid, posix.gid))


def _own_group(account: Account) -> DirectoryGroup:
    """Return the group that a host makes of an account: of its name and number, with it alone."""
    member = DirectoryMember(name=account.name, is_group=False, place=account.place)
    return DirectoryGroup(name=account.name, gid=_own_gid(account.uid), members=(member,), place=account.place)


def _own_gid(uid: int) -> int:
    """Return the number of an account's group, which is its own; where that is not known another than those of groups."""
    return uid if uid >= 0 else uid - _FAR // 2
