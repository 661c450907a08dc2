"""From steps to routes: how each principal reaches each right.

Breadth first from the right backwards, with one list as agenda and seen-set, then forwards along steps that come nearer.  Of each
principal every first step is tried and continued by every shortest way, so that an alternative is seen even where it is longer: anyone who
takes one road away wants to know the others.  Where a longer way is stronger than all of those it is added: a holding is as strong as the
strongest way.
"""

from collections.abc import Iterator, Mapping, Sequence
from itertools import islice, takewhile
from typing import Generic, NamedTuple

from msgspec import Struct, field
from msgspec.structs import replace

from fidelitas.rights.graph.group_edges import Edges, GroupEdges, M
from fidelitas.rights.graph.links import Holding, Link, LinkKind, Mechanism, Principal, PrincipalKind, Right, Strength
from fidelitas.rights.graph.paths import MOST_ROUTES, Edge, LinkPath, further_links, holding_of, visits_once, weakest
from fidelitas.rights.graph.walks import distances
from fidelitas.text import Place

__all__ = ["MOST_TO_LESS", "Found", "holdings_by", "holdings_from", "order_of", "order_of_right", "without_echoes"]

# No honest nesting is as deep.  Beyond, a route tells its first link and how many follow: thousands of groups in a row are an attack.
_MOST_LINKS = 100
# To what is short of full control no honest chain of accounts is as long; the pairs of thousands in a row would be millions.
MOST_TO_LESS = 10


class _Strongest(Struct, frozen=True):
    """The first step of each principal's strongest way to a right, and how strong that way is."""

    steps: Mapping[Principal | Right, tuple[Strength, Edge]]

    def way(self, node: Principal | Right) -> LinkPath:
        """Return the strongest way from a node."""
        links: list[Link] = []
        while node in self.steps:
            edge = self.steps[node][1]
            links += edge.links
            node = edge.target
        return tuple(links)

    def added_to(self, chains: list[LinkPath], source: Principal, before: LinkPath = ()) -> list[LinkPath]:
        """Return chains that begin with some links and go on from a principal, with the strongest where it is none of them."""
        strength = max((self.steps[source][0], *(link.strength for link in before)))
        if all(weakest(chain) > strength for chain in chains) and visits_once(chain := (*before, *self.way(source))):
            return [chain, *chains]
        return chains


class _Graph(Struct):
    # By source and target: an account may have a thousand steps, few of which lead to one right.
    forward: dict[Principal, dict[Principal | Right, list[Edge]]] = field(default_factory=dict)
    backward: dict[Principal | Right, list[Principal]] = field(default_factory=dict)
    places: dict[Principal, Mapping[Principal | Right, int]] = field(default_factory=dict)

    @classmethod
    def of(cls, edges: Sequence[Edge]) -> "_Graph":
        graph = cls()
        for edge in edges:
            graph.forward.setdefault(edge.source, {}).setdefault(edge.target, []).append(edge)
            graph.backward.setdefault(edge.target, []).append(edge.source)
        return graph

    def distances(self, right: Right) -> dict[Principal | Right, int]:
        """Return how many steps each principal is away from a right; of less than full control none that is very far."""
        return distances(right, lambda node: self.backward.get(node, ()), None if right.kind.full else MOST_TO_LESS)

    def cut_at(self, away: dict[Principal | Right, int]) -> Place | None:
        """Return where a chain goes on to principals that are too far away, if one does."""
        for node, _ in takewhile(lambda one: one[1] >= MOST_TO_LESS, reversed(away.items())):
            for source in self.backward.get(node, ()):
                if source not in away:
                    return self.forward[source][node][0].links[0].place
        return None

    def strongest(self, right: Right, away: Mapping[Principal | Right, int]) -> "_Strongest":
        """Return the strongest way of each principal to a right, of these the shortest."""
        found: dict[Principal | Right, tuple[Strength, Edge]] = {}
        for strength in Strength:
            agenda = [right, *found]
            for node in agenda:
                for source in self.backward.get(node, ()):
                    if source in found or source not in away:
                        continue
                    edge = next((one for one in self.forward[source][node] if one.strength <= strength), None)
                    if edge is not None:
                        found[source] = strength, edge
                        agenda.append(source)
            if len(found) == len(away) - 1:
                break
        return _Strongest(found)

    def routes(self, source: Principal, right: Right, away: Mapping[Principal | Right, int]) -> Iterator[LinkPath]:
        """Yield the chains of links from a principal to a right, each first step continued by the shortest ways."""
        for target in self._towards(source, away):
            for edge in self.forward[source][target]:
                for rest in self._onward(target, right, away, source):
                    if visits_once(chain := (*edge.links, *rest)):
                        yield chain

    def beyond(self, link: Link, right: Right, away: Mapping[Principal | Right, int], strongest: _Strongest) -> tuple[LinkPath, ...]:
        """Return the chains that begin with a link and go on to a right, by the shortest ways and by the strongest."""
        onward = ((link, *rest) for rest in self._onward(link.target, right, away, link.source))
        chains = list(islice(filter(visits_once, onward), MOST_ROUTES))
        return tuple(strongest.added_to(chains, link.target, (link,)) if isinstance(link.target, Principal) else chains)

    def holdings(self, right: Right, away: Mapping[Principal | Right, int], strongest: _Strongest) -> Iterator[Holding]:
        """Yield who holds a right, by principal."""
        far = self._far(right, away) if max(away.values()) > _MOST_LINKS else {}
        for source in sorted((node for node in away if isinstance(node, Principal)), key=_order_of_principal):
            chains = [far[source]] if source in far else list(islice(self.routes(source, right, away), MOST_ROUTES + 1))
            holding = holding_of(source, right, chains if source in far else strongest.added_to(chains, source))
            if holding.routes:
                yield holding

    def _far(self, right: Right, away: Mapping[Principal | Right, int]) -> dict[Principal, LinkPath]:
        """Return the chains of those that are many links away: the first link, and one that stands for the others."""
        levels: dict[Principal | Right, Strength] = {right: Strength.DIRECT}
        found: dict[Principal, LinkPath] = {}
        for node in away:  # the nearest first
            if not isinstance(node, Principal):
                continue
            nearer = [target for target in self._towards(node, away) if away[target] == away[node] - 1]
            target = min(nearer, key=levels.__getitem__)
            edge = self.forward[node][target][0]
            levels[node] = max(levels[target], *(link.strength for link in edge.links))
            if away[node] > _MOST_LINKS and isinstance(target, Principal):
                found[node] = (*edge.links, further_links(edge.links[-1], right, away[target], levels[target]))
        return found

    def _towards(self, node: Principal, away: Mapping[Principal | Right, int]) -> list[Principal | Right]:
        """Return where the steps of a principal lead from which a right can be reached, the nearest to it first."""
        targets = self.forward.get(node, {})
        if len(away) < len(targets):  # a rule can name thousands of commands, each a right
            found = sorted((target for target in away if target in targets), key=self._places_of(node).__getitem__)
        else:
            found = [target for target in targets if target in away]
        return found if len(found) == 1 else sorted(found, key=away.__getitem__)

    def _places_of(self, node: Principal) -> Mapping[Principal | Right, int]:
        """Return the order of where the steps of a principal lead."""
        if node not in self.places:
            self.places[node] = {target: place for place, target in enumerate(self.forward[node])}
        return self.places[node]

    def _onward(self, node: Principal | Right, right: Right, away: Mapping[Principal | Right, int], start: Principal) -> Iterator[LinkPath]:
        if node == right:
            yield ()
        elif isinstance(node, Principal):
            nearer = away[node] - 1
            for target in self._towards(node, away):
                if away[target] != nearer or target == start:
                    continue
                for edge in self.forward[node][target]:
                    for rest in self._onward(target, right, away, start):
                        yield (*edge.links, *rest)


class Found(NamedTuple, Generic[M]):
    """Who holds which right by which routes, what groups lend besides, and where a chain is that was not followed to its end."""

    by_node: tuple[Holding, ...]
    group_edges: GroupEdges[M]
    cut_at: Place | None


def holdings_from(found: Edges[M]) -> Found[M]:
    """Return who holds which right by which routes, ordered by right, principal and strength of route; and what groups lend besides."""
    graph = _Graph.of(found.edges)
    targets = (*(edge.target for edge in found.edges), *(one.link.target for one in found.group_edges))
    rights = sorted({target for target in targets if isinstance(target, Right)}, key=order_of_right)
    holdings: list[Holding] = []
    onward = {}
    group_edges: dict[Principal | Right, list[int]] = {}
    cut_at = None
    for number, one in enumerate(found.group_edges):
        group_edges.setdefault(one.link.target, []).append(number)
    for right in rights:
        away = graph.distances(right)
        cut_at = cut_at or graph.cut_at(away)
        strongest = graph.strongest(right, away)
        holdings += graph.holdings(right, away, strongest)
        useful = [number for node in away for number in group_edges.get(node, ())]
        chains = ((number, graph.beyond(found.group_edges[number].link, right, away, strongest)) for number in useful)
        onward[right] = tuple((number, beyond) for number, beyond in chains if beyond)
    return Found(tuple(holdings), GroupEdges.of(found, onward), cut_at)


def holdings_by(edges: Sequence[Edge]) -> tuple[Holding, ...]:
    """Return who holds which right by some steps, ordered by right, principal and strength of route."""
    graph = _Graph.of(edges)
    rights = sorted({edge.target for edge in edges if isinstance(edge.target, Right)}, key=order_of_right)
    reached = ((right, graph.distances(right)) for right in rights)
    return tuple(one for right, away in reached for one in graph.holdings(right, away, graph.strongest(right, away)))


# By these someone else's code is run: each is a road of its own.
_OF_CODE = frozenset({Mechanism.DEFINER, Mechanism.TRIGGER, Mechanism.VIEW, Mechanism.RULE})


def without_echoes(holding: Holding) -> Holding:
    """Return a holding without routes to which another by the same holders is as strong and asks less; what it has now comes first.

    Who has what another is granted, and may become that other, too, gains nothing by it.
    """
    ranked = sorted(holding.routes, key=lambda route: (route.strength, route.kind_rank, len(route.links)))
    met: dict[object, int] = {}
    kept = []
    for route in ranked:
        holders = tuple((link.source, link.target, link.by if link.mechanism in _OF_CODE else None) for link in route.links)
        if route.kind_rank < met.get(holders, len(LinkKind)):
            met[holders] = route.kind_rank
            kept.append(route)
    return replace(holding, routes=tuple(kept))


_ORDER = list(PrincipalKind)


def order_of_right(right: Right) -> tuple[object, ...]:
    return right.kind, right.detail


def _order_of_principal(principal: Principal) -> tuple[object, ...]:
    return _ORDER.index(principal.kind), principal.name


def order_of(holding: Holding) -> tuple[object, ...]:
    """Return by what holdings are ordered: the furthest reaching rights first, then by principal."""
    return *order_of_right(holding.right), *_order_of_principal(holding.principal)
