"""What each host takes of the directories in evidence: worked out once for all hosts that take the same in the same way."""

from collections.abc import Iterator, Sequence
from functools import cached_property
from hashlib import blake2b

from msgspec import Struct
from msgspec.structs import replace

from fidelitas.facts import AccessRules, DirectorySource, Gap, HostAccessRule, HostFacts
from fidelitas.rights.accounts.from_directory import with_directory
from fidelitas.rights.accounts.nesting import Nesting
from fidelitas.rights.directory.admission import Admission, Applicant, admission, applying
from fidelitas.rights.directory.choice import directories_of
from fidelitas.rights.directory.hosts import AsTaken, as_one
from fidelitas.rights.directory.listed import ListedGroups
from fidelitas.rights.directory.objects import Thing
from fidelitas.rights.directory.rights import DirectoryRights
from fidelitas.rights.directory.view import unread_settings
from fidelitas.rights.graph.links import Link, Principal, PrincipalKind

__all__ = ["Takings"]

_Key = tuple[object, ...]


class _Source(Struct, frozen=True, dict=True):
    """One directory as a host asks it: the host's first, or a further one by its `number`."""

    rights: DirectoryRights
    stated: DirectorySource | None
    number: int

    @property
    def way(self) -> _Key:
        """What the names and numbers of its accounts follow from."""
        one = self.stated
        return (self.rights.subject, self.number, *(one.taking if one is not None else ()))


class Takings:
    """The accounts, groups and rules that hosts take of some directories."""

    def __init__(self, directories: Sequence[DirectoryRights] = ()) -> None:
        self.directories = tuple(directories)
        self._plain: dict[_Key, Nesting] = {}
        self._admissions: dict[_Key, Admission] = {}
        self._whole: dict[_Key, Nesting] = {}

    def state(self, facts: HostFacts) -> tuple[HostFacts, Nesting | None]:
        """Return the facts of a host with what it takes of directories besides accounts, and the memberships of those."""
        found = self.of(facts.directories, facts.host_name or facts.subject)
        if found is None:
            return facts, None
        nesting, gaps = found
        return with_directory(replace(facts, gaps=(*facts.gaps, *gaps)), nesting.directory), nesting

    def of(self, sources: Sequence[DirectorySource], host: str) -> tuple[Nesting, tuple[Gap, ...]] | None:
        """Return what a host of some name takes, by what its files say, and what is not known of who may log in; or nothing."""
        asked = self._asked(sources)
        if not asked:
            return None
        admissions = [self._admission(one, host) for one in asked]
        key = self.key(sources, host)
        if key not in self._whole:
            self._whole[key] = self._made(asked, admissions)
        gaps = (_here(gap, one) for one, said in zip(asked, admissions, strict=True) for gap in said.gaps)
        unread = (gap for one in asked if one.stated is not None for gap in unread_settings(one.stated))
        return self._whole[key], (*gaps, *unread)

    def key(self, sources: Sequence[DirectorySource], host: str) -> _Key:
        """Return what the taking of a host follows from: of two hosts with one key it is the same."""
        return tuple((*one.way, *self._about(one, host)) for one in self._asked(sources))

    @property
    def plain(self) -> Iterator[Nesting]:
        """What a host takes of each directory whose files do not say more."""
        return (self._nesting(_Source(rights, None, 0)) for rights in self.directories)

    def digest(self) -> bytes:
        """Return a digest of what hosts can take of the directories beside what is stated for all, and of who may change it."""
        made = blake2b(digest_size=16)
        for rights in self.directories:
            objects = [(one.dn, one.name, one.sid, one.kind, one.disabled, one.primary_rid, one.member_of) for one in rights.facts.accounts]
            made.update(repr((objects, rights.facts.access_rules, rights.facts.netgroups)).encode("utf-8", "surrogateescape"))
            made.update(rights.control.digest())
        return made.digest()

    def _asked(self, sources: Sequence[DirectorySource]) -> tuple[_Source, ...]:
        return tuple(_Source(*one, number) for number, one in enumerate(directories_of(sources, self.directories)))

    def _nesting(self, one: _Source) -> Nesting:
        if one.way not in self._plain:
            nesting = self._plain[one.way] = Nesting(AsTaken(one.rights, one.stated, one.number).directory())
            _tell_of(nesting, [one])
        return self._plain[one.way]

    def _made(self, asked: Sequence[_Source], admissions: Sequence[Admission]) -> Nesting:
        barred = frozenset[str]().union(*(said.barred for said in admissions))
        if len(asked) == 1 and not barred:
            return self._nesting(asked[0])
        nesting = Nesting(replace(as_one([self._nesting(one).directory for one in asked]), barred=barred))
        _tell_of(nesting, asked)
        return nesting

    # -- who may log in --------------------------------------------------------------------------------------------------------------

    @staticmethod
    def _about(one: _Source, host: str) -> tuple[AccessRules | None, tuple[HostAccessRule, ...] | None]:
        """Return what decides who of a directory may log in on a host."""
        access, rules = one.stated.access if one.stated is not None else None, one.rights.facts.access_rules
        return access, (None if rules is None or access is None or access.provider != "ipa" else applying(rules, host))

    def _admission(self, one: _Source, host: str) -> Admission:
        access, rules = self._about(one, host)
        key = (*one.way, access, rules)
        if key not in self._admissions:
            self._admissions[key] = Admission() if access is None else admission(access, rules, list(self._applicants(one)))
        return self._admissions[key]

    def _applicants(self, one: _Source) -> Iterator[Applicant]:
        taken, nesting = AsTaken(one.rights, one.stated, one.number), self._nesting(one)
        listed = ListedGroups(one.rights.facts)
        for account in one.rights.facts.accounts:
            name = taken.name(account)
            who = nesting.identities.get(name)
            if who is not None:
                groups = frozenset(membership.group.name for membership in who.memberships)
                yield Applicant(
                    name=name, account=account, groups=groups, listed_by=listed.of(account.dn), in_chain=listed.in_chain(account.dn)
                )


def _tell_of(nesting: Nesting, asked: Sequence[_Source]) -> None:
    """Have the memberships that a host takes tell what its accounts and groups are called where they come from, and who may change them."""
    objects = _ObjectsHere(nesting, asked)
    nesting.named = objects.names
    nesting.over = objects.links if any(one.rights.control.known for one in asked) else None


class _ObjectsHere:
    """The objects of directories that a host takes, under the names that it has for them: their own names, and who may change them."""

    def __init__(self, nesting: Nesting, asked: Sequence[_Source]) -> None:
        self._nesting, self._asked = nesting, asked
        self._known: dict[tuple[PrincipalKind, str], tuple[Link, ...]] = {}

    @cached_property
    def _things(self) -> dict[tuple[PrincipalKind, str], tuple[DirectoryRights, Thing]]:
        found: dict[tuple[PrincipalKind, str], tuple[DirectoryRights, Thing]] = {}
        for one in reversed(self._asked):
            taken = AsTaken(one.rights, one.stated, one.number)
            things: tuple[Thing, ...] = (*one.rights.facts.accounts, *one.rights.groups)
            for thing in things:
                found[one.rights.node(thing).kind, taken.name(thing)] = (one.rights, thing)
        return found

    @cached_property
    def _names(self) -> dict[Principal, str]:
        return {rights.node(thing): name for (_, name), (rights, thing) in self._things.items()}

    def names(self, kind: PrincipalKind, name: str) -> tuple[str, ...]:
        """Return by which names an account or group can be asked for in its directory, a group's as ``%name``."""
        rights, thing = self._things.get((kind, name), (None, None))
        if rights is None or thing is None:
            return ()
        node = rights.node(thing)
        return (str(node), *node.aliases)

    def links(self, kind: PrincipalKind, name: str) -> tuple[Link, ...]:
        """Return the links to an account or group of a name."""
        key = (kind, name)
        if key not in self._known:
            rights, thing = self._things.get(key, (None, None))
            found = rights.control.over(thing) if rights is not None and thing is not None else ()
            self._known[key] = tuple(replace(link, source=self._here(link.source), target=self._nesting.node(*key)) for link in found)
        return self._known[key]

    def _here(self, one: Principal) -> Principal:
        """Return a principal as the host has it, where it is there."""
        name = self._names.get(one)
        there = self._nesting.identities if one.kind is PrincipalKind.ACCOUNT else self._nesting.groups
        if name is not None and name in there:
            return self._nesting.node(one.kind, name)
        return Principal(kind=PrincipalKind.ELSEWHERE, name=f"{one.name}@{one.subject}", subject=one.subject)


def _here(gap: Gap, one: _Source) -> Gap:
    """Return a gap about the files of one host as it is on this."""
    access = one.stated.access if one.stated is not None else None
    return gap if access is None or gap.place is None or gap.place.subject == one.rights.subject else replace(gap, place=access.place)
