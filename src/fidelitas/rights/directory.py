"""Rights in a directory: who is in its administrative groups, at any depth, and what hosts make of its accounts and groups.

Well-known groups are told by the last number of their SID, not by a name, which is translated ([MS-DTYP] 2.4.2.4).
"""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property

from fidelitas.facts import Directory, DirectoryAccount, DirectoryFacts, DirectoryGroup, DirectoryMember, Place, StatedGroup
from fidelitas.rights.graph.links import By, Holding, Link, LinkKind, Mechanism, Principal, PrincipalKind, Right, RightKind, Strength
from fidelitas.rights.graph.paths import Edge
from fidelitas.rights.graph.routes import holdings_by
from fidelitas.rights.graph.walks import reached
from fidelitas.rights.subject import RowSubject

__all__ = ["DirectoryRights", "directory_rights_of", "for_hosts"]

# Of one domain by the last number, of all alike by the whole (S-1-5-32-…): what a member can do, and whether it is stated or follows.
_WELL_KNOWN = {
    "512": ("administers every machine of the domain (Domain Admins)", Strength.DIRECT),
    "518": ("changes what objects there can be (Schema Admins)", Strength.DIRECT),
    "519": ("administers every domain of the forest (Enterprise Admins)", Strength.DIRECT),
    "520": ("makes group policies, which run on machines as their system (Group Policy Creator Owners)", Strength.CERTAIN),
    "S-1-5-32-544": ("administers the domain controllers (Administrators)", Strength.DIRECT),
    "S-1-5-32-548": ("makes and changes accounts but administrators' (Account Operators)", Strength.CERTAIN),
    "S-1-5-32-549": ("changes services of domain controllers, which run as their system (Server Operators)", Strength.CERTAIN),
    "S-1-5-32-550": ("loads printer drivers into domain controllers (Print Operators)", Strength.CERTAIN),
    "S-1-5-32-551": ("reads and writes any file of domain controllers, password hashes among them (Backup Operators)", Strength.CERTAIN),
}
# Those that everybody is who logs on.
_EVERYBODY = {"S-1-1-0": "Everyone", "S-1-5-11": "Authenticated Users", "S-1-5-7": "Anonymous Logon"}


def _folded(dn: str) -> str:
    """Return a DN in a form in which equal ones are equal: letters small, no blanks about commas and equals signs."""
    parts = dn.replace("\\,", "\0").split(",")
    return ",".join("=".join(half.strip() for half in part.split("=", 1)) for part in parts).replace("\0", "\\,").lower()


def _foreign(dn: str, place: Place) -> DirectoryAccount | None:
    """Return somebody of another domain, or of all alike, who stands in a group by SID: ``CN=S-1-…,CN=ForeignSecurityPrincipals,…``."""
    found = re.match(r"CN=(S-1-[\d-]+),", dn, re.IGNORECASE)
    return None if found is None else DirectoryAccount(name=_EVERYBODY.get(found[1], found[1]), dn=dn, sid=found[1], place=place)


class DirectoryRights(RowSubject):
    """What the objects of a directory amount to."""

    platform = "directory"

    def __init__(self, facts: DirectoryFacts) -> None:
        super().__init__(facts.subject, facts.taken, facts.gaps)
        self.facts = facts
        self.accounts = {account.name: account for account in facts.accounts}
        every: list[DirectoryAccount | StatedGroup] = [*facts.accounts, *facts.groups]
        self._by_dn = {_folded(one.dn): one for one in every}
        self._by_rid = {group.rid: group for group in facts.groups if group.rid}

    @cached_property
    def _by_primary(self) -> Mapping[str, Sequence[DirectoryAccount]]:
        """The accounts by the number of their primary group, which lists none of them."""
        found: dict[str, list[DirectoryAccount]] = {}
        for account in self.facts.accounts:
            if account.primary_rid is not None:
                found.setdefault(str(account.primary_rid), []).append(account)
        return found

    @cached_property
    def by_sid(self) -> Mapping[str, Principal]:
        """The accounts and groups that have a SID, as holders."""
        every: tuple[DirectoryAccount | StatedGroup, ...] = (*self.facts.accounts, *self.facts.groups)
        return {one.sid: self._node(one) for one in every if one.sid}

    @cached_property
    def _into(self) -> Mapping[Principal, Sequence[Link]]:
        into: dict[Principal, list[Link]] = {}
        for link in self._memberships():
            if isinstance(link.target, Principal):
                into.setdefault(link.target, []).append(link)
        return into

    def below(self, groups: Iterable[Principal]) -> Iterator[Link]:
        """Yield the memberships in some groups, at any depth, each once."""
        for group in reached(groups, lambda one: (link.source for link in self._into.get(one, ()))):
            yield from self._into.get(group, ())

    @cached_property
    def holdings(self) -> tuple[Holding, ...]:
        """Who is in an administrative group, by which chain of groups."""
        return holdings_by([Edge((link,)) for link in (*self._memberships(), *self._powers())])

    def knows(self, holder: str) -> bool:
        """Return whether there is such an account, or such a group (written ``%name``)."""
        return holder in self.accounts or any(f"%{group.name}" == holder for group in self.facts.groups)

    def belongs_to(self, name: str) -> Iterable[str]:
        """Return the groups of an account or group, at any depth."""
        return sorted(set(reached([name], lambda one: self._above.get(one, ()))) - {name})

    @cached_property
    def _above(self) -> Mapping[str, Sequence[str]]:
        above: dict[str, list[str]] = {}
        for link in self._memberships():
            above.setdefault(str(link.source), []).append(str(link.target))
        return above

    def account_states(self) -> Mapping[str, bool | None]:
        """Return the accounts, each with whether it is enabled."""
        return {account.name: None if account.disabled is None else not account.disabled for account in self.facts.accounts}

    def counts(self) -> Sequence[tuple[str, int]]:
        """Return how many objects were read."""
        return (("accounts", len(self.facts.accounts)), ("groups", len(self.facts.groups)))

    def _node(self, one: DirectoryAccount | StatedGroup) -> Principal:
        kind = PrincipalKind.ACCOUNT if isinstance(one, DirectoryAccount) else PrincipalKind.GROUP
        return Principal(kind=kind, name=one.name, subject=self.subject)

    def members(self, group: StatedGroup) -> Iterator[tuple[DirectoryAccount | StatedGroup, Place]]:
        """Yield the members of a group that are in evidence, those by their primary group too; each with its place."""
        for dn, place in group.members:
            found = self._by_dn.get(_folded(dn)) or _foreign(dn, place)
            if found is not None:
                yield found, place
        for name, place in group.member_names:
            if name in self.accounts:
                yield self.accounts[name], place
        if group.rid and self._by_rid[group.rid] is group:
            yield from ((account, account.place) for account in self._by_primary.get(group.rid, ()))

    def _memberships(self) -> Iterator[Link]:
        for group in self.facts.groups:
            for member, place in self.members(group):
                nested = isinstance(member, StatedGroup)
                because = f"group {member.name} is in group {group.name}" if nested else f"is in group {group.name}"
                yield self._to(member, self._node(group), By(Mechanism.MEMBERSHIP), because, place, Strength.DIRECT)

    def _powers(self) -> Iterator[Link]:
        for group in self.facts.groups:
            number = group.rid or group.sid
            if number in _WELL_KNOWN:
                because, strength = _WELL_KNOWN[number]
                right = Right(kind=RightKind.DIRECTORY_ADMIN, detail="", subject=self.subject)
                yield self._to(group, right, By(Mechanism.ADMIN_GROUP, group.name), because, group.place, strength)

    def _to(
        self, source: DirectoryAccount | StatedGroup, target: Principal | Right, by: By, because: str, place: Place, strength: Strength
    ) -> Link:
        return Link(source=self._node(source), target=target, kind=LinkKind.HAS, strength=strength, by=by, because=because, place=place)


def directory_rights_of(facts: DirectoryFacts) -> DirectoryRights:
    """Return all rights in a directory."""
    return DirectoryRights(facts)


def for_hosts(rights: DirectoryRights) -> Directory:
    """Return what a Unix host takes from a directory: accounts and groups with numbers, the groups between them, and sudo rules."""
    groups = []
    for number, group in enumerate(rights.facts.groups):
        members = tuple(
            DirectoryMember(name=one.name, is_group=isinstance(one, StatedGroup), place=place) for one, place in rights.members(group)
        )
        gid = group.gid if group.gid is not None else -2 - number  # a group without a number is one on the way to others
        groups.append(DirectoryGroup(name=group.name, gid=gid, members=members, place=group.place))
    accounts = tuple(account.posix for account in rights.facts.accounts if account.posix is not None)
    return Directory(subject=rights.subject, accounts=accounts, groups=tuple(groups), policy=rights.facts.policy)
