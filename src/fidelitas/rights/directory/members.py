"""Who is in which group of a directory: by the group's own list, by a primary group, and by what an object says of itself.

A distribution group gives nothing: it is no part of a logon, and ends every chain ([MS-ADTS] 2.2.12, 3.3.5.7.3).  A member that is not in
evidence is noted, since someone may hold what the group gives.
"""

from collections.abc import Iterator, Mapping
from functools import cached_property
from typing import NamedTuple

from fidelitas.distinguished_names import first_value, folded
from fidelitas.facts import DirectoryAccount, DirectoryFacts, DirectoryKind, MemberNaming, Place, StatedGroup
from fidelitas.rights.directory.objects import Objects, Thing

__all__ = ["Member", "Members", "Missing"]


class Member(NamedTuple):
    """A member of a group with the place that says so; `by_itself` where the member says it, and the group's own list does not."""

    thing: Thing
    place: Place
    by_itself: bool = False


class Missing(NamedTuple):
    """A member of a group that is not in evidence: its DN, or its name."""

    called: str
    place: Place


class Members:
    """The memberships of one directory."""

    def __init__(self, facts: DirectoryFacts, objects: Objects) -> None:
        self._facts, self._objects = facts, objects

    @cached_property
    def groups(self) -> tuple[StatedGroup, ...]:
        """The groups that give their members something; those too that only members name."""
        return (*(group for group in self._facts.groups if group.security is not False), *self.named_only)

    @cached_property
    def named_only(self) -> tuple[StatedGroup, ...]:
        """Groups of which no object is in evidence, by what objects say that they are in."""
        found: dict[str, StatedGroup] = {}
        for one in self._objects.every:
            for dn, place in one.member_of:
                key = folded(dn)
                if key not in self._objects.by_dn:
                    found.setdefault(key, StatedGroup(name=first_value(dn), dn=dn, stated=False, place=place))
        return tuple(found.values())

    @cached_property
    def _by_name(self) -> Mapping[str, list[DirectoryAccount]]:
        found: dict[str, list[DirectoryAccount]] = {}
        for account in self._facts.accounts:
            found.setdefault(account.posix.name if account.posix is not None else account.name, []).append(account)
        return found

    @cached_property
    def _by_primary(self) -> Mapping[str, list[DirectoryAccount]]:
        """The accounts by the SID of their primary group, which lists none of them."""
        found: dict[str, list[DirectoryAccount]] = {}
        for account in self._facts.accounts:
            if account.primary_rid is not None and account.sid is not None:
                found.setdefault(f"{account.sid.rpartition('-')[0]}-{account.primary_rid}", []).append(account)
        return found

    @cached_property
    def _by_itself(self) -> Mapping[str, list[tuple[Thing, Place]]]:
        found: dict[str, list[tuple[Thing, Place]]] = {}
        for one in self._objects.every:
            for dn, place in one.member_of:
                found.setdefault(folded(dn), []).append((one, place))
        return found

    def of(self, group: StatedGroup) -> Iterator[Member]:
        """Yield the members of a group that are in evidence, each once; none is a distribution group or a contact."""
        return (member for member in self._once(group) if _counts(member.thing))

    def _once(self, group: StatedGroup) -> Iterator[Member]:
        met: set[int] = set()
        for member in self._every(group):
            if id(member.thing) not in met:
                met.add(id(member.thing))
                yield member

    def _every(self, group: StatedGroup) -> Iterator[Member]:
        for dn, place in group.members:
            found = self._objects.of_dn(dn, place)
            if found is not None:
                yield Member(found, place)
        for name, place in group.member_names:
            yield from (Member(account, place) for account in self._by_name.get(name, ()))
        yield from self.by_primary(group)
        yield from (Member(one, place, by_itself=True) for one, place in self._by_itself.get(folded(group.dn), ()))

    def by_primary(self, group: StatedGroup) -> Iterator[Member]:
        """Yield the accounts whose primary group it is."""
        found = self._by_primary.get(group.sid, ()) if group.sid is not None else ()
        return (Member(account, account.place) for account in found)

    def named(self, group: StatedGroup, naming: MemberNaming, attribute: str) -> Iterator[Member]:
        """Yield the members of a group as a host takes them that reads names alone, or DNs in one attribute alone; each once.

        Such a host does not know that a group for distribution ends a chain.
        """
        if naming is MemberNaming.ANY:
            yield from self.of(group)
            return
        if naming is MemberNaming.LOGON:  # a logon takes an account out of a group for distribution, but not the groups that it is in
            yield from (one for one in self._once(group) if isinstance(one.thing, StatedGroup) or (_counts(group) and _counts(one.thing)))
            return
        by_dn = naming is MemberNaming.DNS and group.member_attribute.lower() == attribute.lower()
        listed = ((self._objects.of_dn(dn, place), place) for dn, place in group.members) if by_dn else ()
        called = group.member_names if naming is MemberNaming.NAMES else ()
        met: set[int] = set()
        for thing, place in (*listed, *((account, place) for name, place in called for account in self._by_name.get(name, ()))):
            if thing is not None and id(thing) not in met and (isinstance(thing, StatedGroup) or _counts(thing)):
                met.add(id(thing))
                yield Member(thing, place)

    def missing(self, group: StatedGroup) -> list[Missing]:
        """Return the members that a group lists and that are not in evidence."""
        found = [Missing(dn, place) for dn, place in group.members if self._objects.of_dn(dn, place) is None]
        return found + [Missing(name, place) for name, place in group.member_names if name not in self._by_name]


def _counts(one: Thing) -> bool:
    """Return whether an object can hold what a group gives."""
    return one.security is not False if isinstance(one, StatedGroup) else one.kind is not DirectoryKind.CONTACT
