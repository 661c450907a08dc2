"""From steps to routes: how each principal reaches each right.

Breadth first from the right backwards, with one list as agenda and seen-set, then forwards along steps that come nearer.  Of each
principal every first step is tried and continued by every shortest way, so that an alternative is seen even where it is longer: whoever
takes one road away wants to know the others.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import islice

from fidelitas.rights.graph.group_edges import Edges, GroupEdges, M
from fidelitas.rights.graph.links import By, Holding, Link, Mechanism, Principal, PrincipalKind, Right, Strength
from fidelitas.rights.graph.paths import MOST_ROUTES, Edge, LinkPath, holding_of, visits_once
from fidelitas.rights.graph.walks import distances

__all__ = ["holdings_by", "holdings_from", "order_of"]

# No honest nesting is as deep.  Beyond, a route tells its first link and how many follow: thousands of groups in a row are an attack.
_MOST_LINKS = 100


@dataclass(slots=True)
class _Graph:
    # By source and target: an account may have a thousand steps, few of which lead to one right.
    forward: dict[Principal, dict[Principal | Right, list[Edge]]] = field(default_factory=dict)
    backward: dict[Principal | Right, list[Principal]] = field(default_factory=dict)

    @classmethod
    def of(cls, edges: Sequence[Edge]) -> "_Graph":
        graph = cls()
        for edge in edges:
            graph.forward.setdefault(edge.source, {}).setdefault(edge.target, []).append(edge)
            graph.backward.setdefault(edge.target, []).append(edge.source)
        return graph

    def distances(self, right: Right) -> dict[Principal | Right, int]:
        """Return how many steps each principal is away from a right."""
        return distances(right, lambda node: self.backward.get(node, ()))

    def routes(self, source: Principal, right: Right, away: Mapping[Principal | Right, int]) -> Iterator[LinkPath]:
        """Yield the chains of links from a principal to a right, each first step continued by the shortest ways."""
        for target in self._towards(source, away):
            for edge in self.forward[source][target]:
                for rest in self._onward(target, right, away, source):
                    if visits_once(chain := (*edge.links, *rest)):
                        yield chain

    def beyond(self, link: Link, right: Right, away: Mapping[Principal | Right, int]) -> Iterator[LinkPath]:
        """Yield the chains that begin with a link and go on to a right by the shortest ways."""
        for rest in self._onward(link.target, right, away, link.source):
            if visits_once(chain := (link, *rest)):
                yield chain

    def holdings(self, right: Right, away: Mapping[Principal | Right, int]) -> Iterator[Holding]:
        """Yield who holds a right, by principal."""
        far = self._far(right, away) if max(away.values()) > _MOST_LINKS else {}
        for source in sorted((node for node in away if isinstance(node, Principal)), key=_order_of_principal):
            chains = [far[source]] if source in far else list(islice(self.routes(source, right, away), MOST_ROUTES + 1))
            holding = holding_of(source, right, chains)
            if holding.routes:
                yield holding

    def _far(self, right: Right, away: Mapping[Principal | Right, int]) -> dict[Principal, LinkPath]:
        """Return the chains of those that are many links away: the first link, and one that stands for the others."""
        weakest: dict[Principal | Right, Strength] = {right: Strength.DIRECT}
        found: dict[Principal, LinkPath] = {}
        for node in away:  # the nearest first
            if not isinstance(node, Principal):
                continue
            nearer = [target for target in self._towards(node, away) if away[target] == away[node] - 1]
            target = min(nearer, key=weakest.__getitem__)
            edge = self.forward[node][target][0]
            weakest[node] = max(weakest[target], *(link.strength for link in edge.links))
            if away[node] > _MOST_LINKS and isinstance(target, Principal):
                found[node] = (*edge.links, _many(target, right, away[target], weakest[target], edge.links[-1]))
        return found

    def _towards(self, node: Principal, away: Mapping[Principal | Right, int]) -> list[Principal | Right]:
        """Return where the steps of a principal lead from which a right can be reached, the nearest to it first."""
        found = [target for target in self.forward.get(node, ()) if target in away]
        return found if len(found) == 1 else sorted(found, key=away.__getitem__)

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


def _many(source: Principal, right: Right, count: int, strength: Strength, before: Link) -> Link:
    because = f"{count} further links lead on to it, more than are listed"
    conditions = ("as some of those links say",) if strength is Strength.CONDITIONAL else ()
    return Link(
        source=source,
        target=right,
        kind=before.kind,
        strength=strength,
        by=By(Mechanism.FURTHER, str(count)),
        because=because,
        conditions=conditions,
        place=before.place,
    )


def holdings_from(found: Edges[M]) -> tuple[tuple[Holding, ...], GroupEdges[M]]:
    """Return who holds which right by which routes, ordered by right, principal and strength of route; and what groups lend besides."""
    graph = _Graph.of(found.edges)
    targets = (*(edge.target for edge in found.edges), *(one.link.target for one in found.group_edges))
    rights = sorted({target for target in targets if isinstance(target, Right)}, key=_order_of_right)
    holdings: list[Holding] = []
    onward = {}
    group_edges: dict[Principal | Right, list[int]] = {}
    for number, one in enumerate(found.group_edges):
        group_edges.setdefault(one.link.target, []).append(number)
    for right in rights:
        away = graph.distances(right)
        holdings += graph.holdings(right, away)
        useful = [number for node in away for number in group_edges.get(node, ())]
        chains = ((number, tuple(islice(graph.beyond(found.group_edges[number].link, right, away), MOST_ROUTES))) for number in useful)
        onward[right] = tuple((number, beyond) for number, beyond in chains if beyond)
    return tuple(holdings), GroupEdges.of(found, onward)


def holdings_by(edges: Sequence[Edge]) -> tuple[Holding, ...]:
    """Return who holds which right by some steps, ordered by right, principal and strength of route."""
    graph = _Graph.of(edges)
    rights = sorted({edge.target for edge in edges if isinstance(edge.target, Right)}, key=_order_of_right)
    return tuple(holding for right in rights for holding in graph.holdings(right, graph.distances(right)))


_ORDER = list(PrincipalKind)


def _order_of_right(right: Right) -> tuple[object, ...]:
    return right.kind, right.detail


def _order_of_principal(principal: Principal) -> tuple[object, ...]:
    return _ORDER.index(principal.kind), principal.name


def order_of(holding: Holding) -> tuple[object, ...]:
    """Return by what holdings are ordered: the furthest reaching rights first, then by principal."""
    return *_order_of_right(holding.right), *_order_of_principal(holding.principal)
