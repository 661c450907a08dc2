"""How links of a host are made: from an account, a group, everyone, or anyone who can write a file, to what they gain.

Knows identities and how many links one fact gives; not what the facts mean.
"""

from collections.abc import Iterator

from msgspec import Struct

from fidelitas.facts import HostFacts, Place
from fidelitas.rights.graph.group_edges import GroupEdge
from fidelitas.rights.graph.links import By, Link, LinkKind, Principal, Right, Strength
from fidelitas.rights.graph.paths import LinkPath
from fidelitas.rights.linux.files import Writers
from fidelitas.rights.linux.nodes import Nodes
from fidelitas.rights.linux.population import Identity, Population

__all__ = ["LinkMaker", "Links", "Why"]

# Chains of one step, or links that a group lends to each of its members.
Links = Iterator[LinkPath | GroupEdge[Identity]]


class Why(Struct, frozen=True):
    """What a link says besides its ends."""

    by: By
    because: str
    place: Place
    strength: Strength
    kind: LinkKind = LinkKind.MAY_BECOME
    quote: str | None = None
    asks: str | None = None
    conditions: tuple[str, ...] = ()


class LinkMaker:
    """Makes links between the accounts, groups and rights of one host."""

    def __init__(self, facts: HostFacts, population: Population, nodes: Nodes) -> None:
        self._nodes = nodes
        self._facts = facts
        self._population = population

    def link(self, source: Principal, target: Principal | Right, why: Why) -> Link:
        return Link(
            source=source,
            target=target,
            kind=why.kind,
            strength=why.strength,
            by=why.by,
            because=why.because,
            quote=why.quote,
            asks=why.asks,
            conditions=why.conditions,
            place=why.place,
        )

    def by_account(self, who: Identity, target: Principal | Right, why: Why) -> Links:
        if who.uid != 0:
            yield (self.link(self._nodes.account(who), target, why),)

    def by_group(self, gid: int, target: Principal | Right, why: Why) -> Links:
        """Yield the way of a group, and of each account that is in it."""
        link = self.link(self._nodes.group(gid), target, why)
        yield (link,)
        yield GroupEdge(link, gid, [who for who in self._population.in_gid(gid) if who.uid != 0])

    def by_anyone(self, target: Principal | Right, why: Why) -> Links:
        link = self.link(self._nodes.anyone, target, why)
        yield (link,)
        yield GroupEdge(link, None, self._population.ordinary)

    def by_writers(self, who: Writers, target: Principal | Right, why: Why) -> Links:
        if who.everyone:
            yield from self.by_anyone(target, why)
            return
        for uid in sorted(who.uids):
            for one in self._population.of_uid(uid):
                yield from self.by_account(one, target, why)
        for gid in sorted(who.gids):
            yield from self.by_group(gid, target, why)
