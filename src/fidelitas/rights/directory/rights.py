"""What the objects of a directory amount to: memberships and powers as links, holders as holdings, and what is not in evidence."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property

from fidelitas.distinguished_names import folded, realm_of
from fidelitas.facts import DirectoryAccount, DirectoryFacts, DirectoryKind, Gap, MemberNaming, Place, StatedGroup
from fidelitas.rights.directory.control import Control
from fidelitas.rights.directory.machines import links_to_machine, password_readers
from fidelitas.rights.directory.members import Members
from fidelitas.rights.directory.objects import Objects, Thing
from fidelitas.rights.directory.powers import power_of_group
from fidelitas.rights.directory.seats import Seats
from fidelitas.rights.graph.links import By, Holding, Link, LinkKind, Mechanism, Principal, PrincipalKind, Right, RightKind, Strength
from fidelitas.rights.graph.paths import Edge
from fidelitas.rights.graph.routes import holdings_by
from fidelitas.rights.graph.walks import reached
from fidelitas.rights.subject import RowSubject

__all__ = ["DirectoryRights", "directory_rights_of"]

_MOST_NAMED = 3
_BUILT_IN = "S-1-5-32-"


class DirectoryRights(RowSubject):
    """What the objects of a directory amount to."""

    platform = "directory"

    def __init__(self, facts: DirectoryFacts) -> None:
        super().__init__(facts.subject, facts.taken, facts.gaps)
        self.facts = facts
        self._objects = Objects(facts)
        self._members = Members(facts, self._objects)

    @cached_property
    def accounts(self) -> Mapping[str, DirectoryAccount]:
        """The accounts by what they are called here, which tells those of one name apart."""
        return {self.node(account).name: account for account in self.facts.accounts}

    @property
    def groups(self) -> tuple[StatedGroup, ...]:
        """The groups that give their members something."""
        return self._members.groups

    @property
    def groups_named_only(self) -> tuple[StatedGroup, ...]:
        """Those of which no object is in evidence: their members name them."""
        return self._members.named_only

    @property
    def gaps(self) -> tuple[Gap, ...]:
        """Everything that could not be read, and members that are not in evidence."""
        return (*super().gaps, *self._missing_members, *self._unknown_permissions(), *self._undecided_rules())

    def _unknown_permissions(self) -> Iterator[Gap]:
        """Yield a gap where a Windows domain shows no permissions: they were not exported, or the account may not read them."""
        if self.domain_sids and not self.control.known:
            place = self.facts.accounts[0].place if self.facts.accounts else self.facts.groups[0].place
            why = "no object has its permissions (nTSecurityDescriptor) in evidence"
            yield Gap(what="permissions of objects", why=why, weakens="who may change administrators and their groups", place=place)

    def _undecided_rules(self) -> Iterator[Gap]:
        """Yield a gap for each access rule of a server that lets someone write, and whose clause for that cannot be decided."""
        for rule in self.control.server.undecided():
            why = "a rule lets accounts write that cannot be worked out here (an attribute, an expression, a set, a filter)"
            yield Gap(what="access rules of the server", why=why, weakens="who may change groups and passwords", place=rule.place)

    @cached_property
    def by_sid(self) -> Mapping[str, Principal]:
        """The accounts and groups that have a SID of a domain, as holders; groups that every machine has of its own are not among them."""
        return {sid: self.node(one) for sid, one in self._objects.by_sid.items()}

    @cached_property
    def built_in(self) -> Mapping[str, Principal]:
        """The groups that each machine has of its own (S-1-5-32-…), as domain controllers have them."""
        return {group.sid: self.node(group) for group in self.facts.groups if group.sid and group.sid.startswith(_BUILT_IN)}

    @property
    def by_qualified_name(self) -> Mapping[str, Principal]:
        r"""The accounts and groups by ``domain\name`` and ``name@realm``, in small letters."""
        return self._objects.by_qualified_name

    def short_name_of(self, realm: str) -> str:
        """Return the short name of a domain."""
        return self._objects.short_of(realm)

    @cached_property
    def realms(self) -> frozenset[str]:
        """The domains that its objects are in, by their DNS names."""
        return frozenset(realm for one in self._objects.every if (realm := realm_of(one.dn)))

    @cached_property
    def tree(self) -> frozenset[str]:
        """The places of the tree that have objects below them, folded."""
        found: set[str] = set()
        rules = self.facts.policy.rules if self.facts.policy is not None else ()
        for dn in (*(one.dn for one in self._objects.every), *(one.dn for one in rules)):
            above = folded(dn).partition(",")[2]
            while above and above not in found:
                found.add(above)
                above = above.partition(",")[2]
        return frozenset(found)

    @cached_property
    def domain_sids(self) -> frozenset[str]:
        """The SIDs of the domains whose accounts are here."""
        every = (one.sid.rpartition("-")[0] for one in self._objects.every if one.sid)
        return frozenset(sid for sid in every if sid.startswith("S-1-5-21-"))

    @cached_property
    def _into(self) -> Mapping[Principal, Sequence[Link]]:
        into: dict[Principal, list[Link]] = {}
        for link in self._memberships:
            if isinstance(link.target, Principal):
                into.setdefault(link.target, []).append(link)
        return into

    def below(self, groups: Iterable[Principal]) -> Iterator[Link]:
        """Yield the links that lead to some groups, at any depth, each once: memberships, and who may change them or their members."""
        for one in reached(groups, lambda one: (link.source for link in self.links_into(one))):
            yield from self.links_into(one)

    @cached_property
    def holdings(self) -> tuple[Holding, ...]:
        """Who is in an administrative group, by which chains of groups."""
        giving = (*self._powers(), *self._seats)
        if not giving:
            return ()
        found = holdings_by([Edge((link,)) for link in (*self._memberships, *giving, *self._leading_on)])
        whole = {one.principal: one.strength for one in found if not one.right.detail}
        return tuple(one for one in found if not _is_part(one, whole))

    @cached_property
    def control(self) -> Control:
        """Who may change which objects."""
        return Control(self.facts, self._objects, self._accounts_below)

    def _accounts_below(self, group: Principal) -> Iterator[Principal]:
        return (link.source for member in reached([group], self._members_of) for link in self._into.get(member, ()))

    def _members_of(self, group: Principal) -> Iterator[Principal]:
        return (link.source for link in self._into.get(group, ()))

    @cached_property
    def _seats(self) -> tuple[Link, ...]:
        right = Right(kind=RightKind.DIRECTORY_ADMIN, detail="", subject=self.subject)
        return tuple(Seats(self.facts, self._objects, self.control, right).links())

    @cached_property
    def _leading_on(self) -> tuple[Link, ...]:
        """The links of control that lead on to administration: of all who have it, of those who may change them, and so on."""
        starts = dict.fromkeys(link.source for link in (*self._powers(), *self._seats))
        every = reached(starts, lambda one: (link.source for link in self.links_into(one)))
        return tuple(link for one in every for link in self._controlled(one))

    def links_into(self, one: Principal) -> Sequence[Link]:
        """Return the links that lead to an account or group: memberships, and who may change it."""
        return (*self._into.get(one, ()), *self._controlled(one))

    def sid_of(self, one: Principal) -> str | None:
        """Return the SID of a holder, where it has one."""
        return self._objects.sid_of(one)

    def password_readers(self) -> Iterator[Link]:
        """Yield who may read passwords of local administrators that the directory keeps, as links to the accounts of the machines."""
        for machine in self._machines.values():
            yield from password_readers(self.facts, self.control, machine, self.node(machine))

    def over_machine(self, computer: str, right: Right) -> Iterator[Link]:
        """Yield the links by which a right on a machine of the domain follows from what the directory allows or keeps."""
        machine = self._machines.get(computer.casefold())
        return links_to_machine(self.facts, self.control, machine, right) if machine is not None else iter(())

    @cached_property
    def _machines(self) -> Mapping[str, DirectoryAccount]:
        machines = (one for one in self.facts.accounts if one.kind is DirectoryKind.COMPUTER and not one.disabled)
        return {one.name.rstrip("$").casefold(): one for one in machines}

    def _controlled(self, one: Principal) -> tuple[Link, ...]:
        if one not in self._control_links:
            thing = self._things.get(one)
            self._control_links[one] = tuple(self.control.over(thing)) if thing is not None else ()
        return self._control_links[one]

    @cached_property
    def _things(self) -> Mapping[Principal, Thing]:
        return {self.node(one): one for one in self._objects.every}

    @cached_property
    def _control_links(self) -> dict[Principal, tuple[Link, ...]]:
        return {}

    def knows(self, holder: str) -> bool:
        """Return whether there is such an account, or such a group (written ``%name``), by any of its names."""
        return bool(self.meant_by(holder))

    @cached_property
    def _called(self) -> Mapping[str, list[Principal]]:
        found: dict[str, list[Principal]] = {}
        for one in (*self._objects.every, *(group for group in self.groups if not group.stated)):
            principal = self.node(one)
            for name in (str(principal), *principal.aliases):
                found.setdefault(name, []).append(principal)
        return found

    @cached_property
    def _called_alike(self) -> Mapping[str, list[Principal]]:
        """The same whatever the case of letters, which a directory does not regard."""
        found: dict[str, list[Principal]] = {}
        for name, principals in self._called.items():
            found.setdefault(name.casefold(), []).extend(principals)
        return found

    has_further_names = True

    def meant_by(self, holder: str) -> list[str]:
        """Return what those are called that a name can mean: several where it is that of more than one account."""
        found = self._called.get(holder) or self._called_alike.get(holder.casefold()) or []
        if not found and ("\\" in holder or "@" in holder):
            qualified = self.by_qualified_name.get(holder.lower().removeprefix("%"))
            found = [qualified] if qualified is not None and str(qualified).startswith("%") == holder.startswith("%") else []
        return list(dict.fromkeys(map(str, found)))

    def holder(self, account: str) -> Principal:
        """Return an account as a holder, with all its names."""
        known = [one for one in self._called.get(account, ()) if one.kind is PrincipalKind.ACCOUNT]
        return known[0] if known else super().holder(account)

    def means(self, holder: str) -> Callable[[Principal], bool]:
        """Return what says of a holder whether a name means it, by any of its names."""
        labels = frozenset(self.meant_by(holder))
        return lambda one: str(one) in labels or one.is_called(holder)

    def belongs_to(self, name: str) -> Iterable[str]:
        """Return the groups of an account or group, at any depth."""
        mine = set(self.meant_by(name)) or {name}
        return sorted(set(reached(mine, lambda one: self._above.get(one, ()))) - mine)

    @cached_property
    def _above(self) -> Mapping[str, Sequence[str]]:
        above: dict[str, list[str]] = {}
        for link in self._memberships:
            above.setdefault(str(link.source), []).append(str(link.target))
        return above

    def account_states(self) -> Mapping[str, bool | None]:
        """Return the accounts, each with whether it is enabled."""
        return {name: None if account.disabled is None else not account.disabled for name, account in self.accounts.items()}

    def comments(self) -> Iterator[tuple[str, str]]:
        """Yield every account with the full name that the directory has for it."""
        return ((name, account.full_name) for name, account in self.accounts.items())

    def counts(self) -> Sequence[tuple[str, int]]:
        """Return how many objects were read."""
        return (("accounts", len(self.facts.accounts)), ("groups", len(self.facts.groups)))

    def node(self, one: Thing) -> Principal:
        """Return an account or group as a holder."""
        return self._objects.principal(one)

    def members(self, group: StatedGroup) -> Iterator[tuple[Thing, Place]]:
        """Yield the members of a group that are in evidence, those by their primary group too; each with its place."""
        return ((member.thing, member.place) for member in self._members.of(group))

    def members_by_primary(self, group: StatedGroup) -> Iterator[tuple[Thing, Place]]:
        """Yield the accounts whose primary group it is, each with its place."""
        return ((member.thing, member.place) for member in self._members.by_primary(group))

    def members_named(self, group: StatedGroup, naming: MemberNaming, attribute: str) -> Iterator[tuple[Thing, Place]]:
        """Yield the members of a group as a host takes them by how it reads their names; each with its place."""
        return ((member.thing, member.place) for member in self._members.named(group, naming, attribute))

    @cached_property
    def _memberships(self) -> tuple[Link, ...]:
        return tuple(self._every_membership())

    def _every_membership(self) -> Iterator[Link]:
        yield from self._former_sids()
        for group in self._members.groups:
            target = self.node(group)
            for member, place, by_itself in self._members.of(group):
                source = self.node(member)
                nested = isinstance(member, StatedGroup)
                because = f"group {source.name} is in group {target.name}" if nested else f"is in group {target.name}"
                because += ", as it says of itself (memberOf)" if by_itself else ""
                yield Link(
                    source=source, target=target, kind=LinkKind.HAS, strength=Strength.DIRECT, by=By(Mechanism.MEMBERSHIP), because=because,
                    place=place,
                )  # fmt: skip

    def _former_sids(self) -> Iterator[Link]:
        """Yield what accounts have by SIDs that they brought from another domain ([MS-ADA3] sIDHistory): all that those SIDs have."""
        for account in self.facts.accounts:
            for sid in account.sid_history:
                known = self._objects.by_sid.get(sid)
                if known is not None and known is not account:
                    target = self.node(known)
                    yield Link(
                        source=self.node(account),
                        target=target,
                        kind=LinkKind.HAS,
                        strength=Strength.CERTAIN,
                        by=By(Mechanism.SID_HISTORY),
                        because=f"has the SID of {target.name} among its former ones (sIDHistory)",
                        quote=sid,
                        place=account.place,
                    )

    def _powers(self) -> Iterator[Link]:
        for group in self._members.groups:
            power = power_of_group(group)
            if power is not None:
                yield Link(
                    source=self.node(group),
                    target=Right(kind=RightKind.DIRECTORY_ADMIN, detail=power.detail, subject=self.subject),
                    kind=LinkKind.HAS,
                    strength=power.strength,
                    by=By(Mechanism.ADMIN_GROUP, group.name),
                    because=power.because,
                    conditions=(power.condition,) if power.condition else (),
                    place=group.place,
                )

    @cached_property
    def _missing_members(self) -> tuple[Gap, ...]:
        """A gap for each group that leads to administration and has members that are not in evidence; one for all others together."""
        leading = {holding.principal for holding in self.holdings}
        found: list[Gap] = []
        others: list[tuple[StatedGroup, int]] = []
        for group in self._members.groups:
            missing = self._members.missing(group)
            if missing and self.node(group) in leading:
                called = ", ".join(one.called for one in missing[:_MOST_NAMED])
                more = f" and {len(missing) - _MOST_NAMED} more" if len(missing) > _MOST_NAMED else ""
                why = f"{len(missing)} of its members {'is' if len(missing) == 1 else 'are'} not in evidence: {called}{more}"
                weakens = "who administers the directory: the group leads to that"
                found.append(Gap(what=f"members of {self.node(group).name}", why=why, weakens=weakens, place=missing[0].place))
            elif missing:
                others.append((group, len(missing)))
        if others:
            count = sum(number for _, number in others)
            why = f"{count} members of {len(others)} group{'s' * (len(others) != 1)} are not in evidence, first of {others[0][0].name}"
            found.append(Gap(what="members of groups", why=why, weakens="who is in these groups", place=others[0][0].place))
        return tuple(found)


def _is_part(holding: Holding, whole: Mapping[Principal, Strength]) -> bool:
    """Return whether a right is got by changing something alone, and its holder has the whole as surely: that is no news."""
    strength = whole.get(holding.principal) if holding.right.detail else None
    by_change = (any(link.mechanism is Mechanism.PERMISSION for link in route.links) for route in holding.routes)
    return strength is not None and holding.strength >= strength and all(by_change)


def directory_rights_of(facts: DirectoryFacts) -> DirectoryRights:
    """Return all rights in a directory."""
    return DirectoryRights(facts)
