"""Control by permissions: who may change what makes an administrator, without being one ([MS-ADTS] 5.1.3, [MS-GPOL], [MS-SFU]).

A link leads from an account that may do something to an object to the object itself, with the entry that allows it as its place.  Only
what leads on is followed: a domain has a hundred thousand accounts, and each can be changed by someone.
"""

from collections.abc import Callable, Iterable, Iterator
from functools import cached_property
from hashlib import blake2b
from operator import attrgetter
from typing import NamedTuple

from fidelitas.distinguished_names import folded
from fidelitas.facts import (
    Container,
    ContainerKind,
    DirectoryAccount,
    DirectoryFacts,
    DirectoryKind,
    GroupPolicy,
    Place,
    SecurityDescriptor,
)
from fidelitas.rights.directory.accesses import LINK_POLICY, TAKE_OVER, WRITE_POLICY, Row, Sort, accesses_on
from fidelitas.rights.directory.objects import Objects, Thing
from fidelitas.rights.directory.permissions import Access, Allowance, allowed_to, keepers
from fidelitas.rights.directory.server_rules import ServerAccess
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, Principal, Right, Strength

__all__ = ["Control", "Permitted"]

# Those whom every object of a domain obeys, the object itself, and who stands for the owner in a template: no news.
_TRUSTED = frozenset({"S-1-5-18", "S-1-5-9", "S-1-5-10", "S-1-3-0", "S-1-5-32-544"})
_TRUSTED_NUMBERS = ("-512", "-516", "-519", "-498")
_NEEDS_POLICY = "if it can also write a group policy, or make one"
_SETTINGS = "once the settings of that policy run for that account"


class Permitted(NamedTuple):
    """Someone who is allowed something: with the SID that the entry names, the entry in words, and what else must be so."""

    who: Principal
    entry: str
    condition: str = ""
    by_group: Principal | None = None  # through which he is allowed it, where others of the group are denied it


# The accounts that are in a group at any depth.
Below = Callable[[Principal], Iterable[Principal]]


class Control:
    """Who may change which objects of a directory."""

    def __init__(self, facts: DirectoryFacts, objects: Objects, accounts_below: Below) -> None:
        self._facts, self._objects, self._below = facts, objects, accounts_below
        self._containers = {folded(one.dn): one for one in facts.control.containers}
        self._policies = {folded(one.dn): one for one in facts.control.policies}
        self._takers: dict[str, tuple[Link, ...]] = {}
        self.server = ServerAccess(facts, objects)

    def principal(self, account: DirectoryAccount) -> Principal:
        """Return an account as a holder."""
        return self._objects.principal(account)

    @cached_property
    def known(self) -> bool:
        """Whether permissions are in evidence at all."""
        stated = (one.descriptor for group in (self._facts.accounts, self._facts.groups, self._facts.control.containers) for one in group)
        return self.server.known or any(descriptor is not None for descriptor in stated)

    def digest(self) -> bytes:
        """Return a digest of everything that decides who may change what; of lists that many objects share each once."""
        made = blake2b(digest_size=16)
        known: dict[int, bytes] = {}
        things: tuple[Thing, ...] = (*self._facts.accounts, *self._facts.groups)
        for thing in things if self.known else ():
            if id(thing.descriptor) not in known:
                known[id(thing.descriptor)] = blake2b(repr(thing.descriptor).encode(), digest_size=16).digest()
            made.update(folded(thing.dn).encode("utf-8", "surrogateescape") + known[id(thing.descriptor)])
        delegated = [(one.dn, one.acted_for_by, one.password_read_by) for one in self._facts.accounts]
        made.update(repr((self._facts.control, delegated)).encode("utf-8", "surrogateescape") if self.known else b"")
        return made.digest()

    # -- accounts and groups ---------------------------------------------------------------------------------------------------------

    def over(self, thing: Thing) -> Iterator[Link]:
        """Yield the links by which someone obtains an account or group: one for each, by the surest and plainest way."""
        met: set[Principal] = set()
        target = self._objects.principal(thing)
        every = (
            *self._by_its_permissions(thing, target),
            *self.by_its_delegation(thing, target),
            *self._from_above(thing, target),
            *self.server.over(thing, target),
        )
        for link in sorted(every, key=attrgetter("strength")):
            if link.source not in met and link.source != target:
                met.add(link.source)
                yield link

    def _by_its_permissions(self, thing: Thing, target: Principal) -> Iterator[Link]:
        descriptor, place = thing.descriptor, thing.permissions_at or thing.place
        if descriptor is None:
            return
        for row in accesses_on(sort_of(thing)):
            for one in self.permitted(descriptor, row.access, self.domain_of(thing)):
                yield self._link(one, target, row, thing.name, place)
        for one in self._owners(descriptor, self.domain_of(thing)):
            yield self._owner_link(one, target, thing.name, place)

    def by_its_delegation(self, thing: Thing, target: Principal | Right) -> Iterator[Link]:
        """Yield who reads the password of a managed service account, and whose machines act as anyone on a machine."""
        if not isinstance(thing, DirectoryAccount):
            return
        for descriptor, because in (
            (thing.password_read_by, f"may read the password of {thing.name}"),
            (thing.acted_for_by, f"may act as anyone on {thing.name} (resource-based delegation)"),
        ):
            for one in self.permitted(descriptor, Access(0xFFFFFFFF), self.domain_of(thing)) if descriptor is not None else ():
                yield self._made(one, target, because, thing.place)

    def _from_above(self, thing: Thing, target: Principal) -> Iterator[Link]:
        """Yield who decides by a container that an object is in: by its permissions, which the object inherits, or by its policies."""
        inherits = thing.descriptor is not None and not thing.descriptor.protected
        for container in self.above(thing.dn):
            if inherits:
                yield from (self._on(link, target, f", and with them those of {thing.name} in it") for link in self._takers_of(container))
            inherits = inherits and not (container.descriptor is not None and container.descriptor.protected)
        if isinstance(thing, DirectoryAccount):
            yield from self.by_policies(thing, target)

    def by_policies(self, thing: DirectoryAccount, target: Principal | Right) -> Iterator[Link]:
        """Yield who decides by the group policies that an account obeys; a container may block those from above that are not enforced."""
        blocked = False
        for container in self.above(thing.dn):
            yield from self._by_policies_of(container, thing, target, blocked=blocked)
            blocked = blocked or container.blocks

    def _by_policies_of(self, container: Container, thing: DirectoryAccount, target: Principal | Right, *, blocked: bool) -> Iterator[Link]:
        for dn in container.policies:
            policy = self._policies.get(folded(dn))
            if policy is not None and (not blocked or folded(dn) in {folded(one) for one in container.enforced}):
                because = f"may change group policy {policy.name}, which applies to {thing.name} in {container.dn}"
                for one in self._writers(policy):
                    yield self._made(one, target, because, policy.place, condition="" if _is_machine(thing) else _SETTINGS)
        for one in self._linkers(container) if not blocked else ():
            yield self._made(
                one, target, f"may link group policies to {container.dn}, where {thing.name} is", container.place, _NEEDS_POLICY
            )

    def above(self, dn: str) -> Iterator[Container]:
        """Yield the containers that an object is in, the nearest first."""
        key = folded(dn).partition(",")[2]
        while key:
            if key in self._containers:
                yield self._containers[key]
            key = key.partition(",")[2]

    # -- containers ------------------------------------------------------------------------------------------------------------------

    def _takers_of(self, container: Container) -> tuple[Link, ...]:
        """Return who may change the permissions of a container; as links to nowhere yet."""
        if container.dn not in self._takers:
            self._takers[container.dn] = tuple(self._every_taker(container))
        return self._takers[container.dn]

    def _every_taker(self, container: Container) -> Iterator[Link]:
        descriptor, met = container.descriptor, set[Principal]()
        if descriptor is None:
            return
        nowhere, sid = self._objects.everything(container.dn), self.domain_sid(container.dn)
        found = [(one, row.because.format(container.dn)) for row in TAKE_OVER for one in self.permitted(descriptor, row.access, sid)]
        found += [(one, f"owns {container.dn}, and so may change its permissions") for one in self._owners(descriptor, sid)]
        for one, because in found:
            if one.who not in met:
                met.add(one.who)
                yield self._made(one, nowhere, because, container.place)

    def takers_of(self, container: Container, right: Right) -> Iterator[Link]:
        """Yield who may change the permissions of a container, as links to a right that this gives."""
        return (self._on(link, right, "") for link in self._takers_of(container))

    def _writers(self, policy: GroupPolicy) -> Iterator[Permitted]:
        descriptor = policy.descriptor
        if descriptor is not None:
            sid = self.domain_sid(policy.dn)
            for access in (WRITE_POLICY, *(row.access for row in TAKE_OVER)):
                yield from self.permitted(descriptor, access, sid)
            yield from self._owners(descriptor, sid)

    def _linkers(self, container: Container) -> Iterator[Permitted]:
        if container.descriptor is not None and container.kind in (ContainerKind.DOMAIN, ContainerKind.UNIT):
            yield from self.permitted(container.descriptor, LINK_POLICY, self.domain_sid(container.dn))

    # -- who -------------------------------------------------------------------------------------------------------------------------

    def permitted(self, descriptor: SecurityDescriptor, access: Access, domain: str) -> Iterator[Permitted]:
        """Yield who may do something by a list of permissions; short SIDs of SDDL are those of `domain`."""
        return (one for allowance in allowed_to(descriptor, access) for one in self._resolved(allowance, domain))

    def _owners(self, descriptor: SecurityDescriptor, domain: str) -> Iterator[Permitted]:
        return (one for allowance in keepers(descriptor) for one in self._resolved(allowance, domain))

    def _resolved(self, allowance: Allowance, domain: str) -> Iterator[Permitted]:
        """Yield whom an entry means; where some of a group are denied the same before it, each of the others."""
        sid = full_sid(allowance.sid, domain)
        if sid in _TRUSTED or (sid.startswith(("S-1-5-21-", "domain-")) and sid.endswith(_TRUSTED_NUMBERS)):
            return
        who = self._objects.of_sid(sid)
        condition = "if the condition of the entry holds, which is not read" if allowance.conditional else ""
        denied = {one for other in allowance.denied for one in self.with_members(self._objects.of_sid(full_sid(other, domain)))}
        if not denied:
            yield Permitted(who, allowance.entry, condition)
            return
        mine = self.with_members(who)
        if mine.isdisjoint(denied):
            yield Permitted(who, allowance.entry, condition)
        elif who not in denied:
            for one in sorted(mine - denied - {who}, key=str):
                yield Permitted(one, allowance.entry, condition, who)

    def with_members(self, who: Principal) -> set[Principal]:
        """Return a principal, and where that is a group all accounts and groups in it."""
        return {who, *self._below(who)}

    def domain_of(self, thing: Thing) -> str:
        """Return the SID of the domain of an account or group."""
        return realm_sid(thing.sid) or self.domain_sid(thing.dn)

    def domain_sid(self, dn: str) -> str:
        """Return the SID of the domain that an object without one is in."""
        return self._objects.sid_of_realm(dn)

    # -- links -----------------------------------------------------------------------------------------------------------------------

    def _link(self, one: Permitted, target: Principal, row: Row, name: str, place: Place) -> Link:
        return self._made(one, target, row.because.format(name), place, row.condition)

    def _owner_link(self, one: Permitted, target: Principal, name: str, place: Place) -> Link:
        return self._made(one, target, f"owns {name}, and so may change its permissions", place)

    @staticmethod
    def _made(one: Permitted, target: Principal | Right, because: str, place: Place, condition: str = "") -> Link:
        return made_link(one, target, because, place, condition)

    @staticmethod
    def _on(link: Link, target: Principal | Right, more: str) -> Link:
        return Link(
            source=link.source,
            target=target,
            kind=link.kind,
            strength=link.strength,
            by=link.by,
            because=link.because + more,
            quote=link.quote,
            conditions=link.conditions,
            place=link.place,
        )


def made_link(one: Permitted, target: Principal | Right, because: str, place: Place, condition: str = "") -> Link:
    """Return the link of someone who may do something; where he may as one of a group, it says which."""
    conditions = tuple(text for text in (one.condition, condition) if text)
    return Link(
        source=one.who,
        target=target,
        kind=LinkKind.MAY_BECOME,
        strength=Strength.CONDITIONAL if conditions else Strength.CERTAIN,
        by=By(Mechanism.PERMISSION),
        because=f"is in group {one.by_group.name}, which {because}" if one.by_group is not None else because,
        quote=one.entry or None,
        conditions=conditions,
        place=place,
    )


def sort_of(thing: Thing) -> Sort:
    """Return what an account or group is, as far as it matters for what can be done to it."""
    if not isinstance(thing, DirectoryAccount):
        return Sort.GROUP
    return {DirectoryKind.COMPUTER: Sort.MACHINE, DirectoryKind.SERVICE: Sort.SERVICE}.get(thing.kind, Sort.PERSON)


def _is_machine(thing: Thing) -> bool:
    return sort_of(thing) is not Sort.PERSON


def realm_sid(sid: str | None) -> str:
    """Return the SID of the domain that a SID is of; empty where it is of none."""
    return sid.rpartition("-")[0] if sid is not None and sid.startswith("S-1-5-21-") else ""


def full_sid(sid: str, domain: str) -> str:
    """Return a SID in which a short one of a domain, "domain-512", is written out."""
    return f"{domain}-{sid.removeprefix('domain-')}" if sid.startswith("domain-") and domain else sid
