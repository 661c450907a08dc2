"""From steps to routes: how each principal reaches each right.

Breadth first from the right backwards, with one list as agenda and seen-set, then forwards along steps that come nearer.  Of each
principal every first step is tried and continued by every shortest way, so that an alternative is seen even where it is longer: whoever
takes one road away wants to know the others.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import islice

from fidelitas.rights.links import Holding, Link, Principal, PrincipalKind, Right, Route, Strength
from fidelitas.rights.resolve import Step

__all__ = ["holdings_from"]

# Routes kept for one holding; beyond that they are counted.  No reader follows more, and hostile policies can make very many.
MOST_ROUTES = 32


@dataclass(slots=True)
class _Graph:
    # By source and target: an account may have a thousand steps, few of which lead to one right.
    forward: dict[Principal, dict[Principal | Right, list[Step]]] = field(default_factory=dict)
    backward: dict[Principal | Right, list[Principal]] = field(default_factory=dict)

    @classmethod
    def of(cls, steps: Sequence[Step]) -> "_Graph":
        graph = cls()
        for step in steps:
            graph.forward.setdefault(step.source, {}).setdefault(step.target, []).append(step)
            graph.backward.setdefault(step.target, []).append(step.source)
        return graph

    def distances(self, right: Right) -> dict[Principal | Right, int]:
        """Return how many steps each principal is away from a right."""
        agenda: list[Principal | Right] = [right]
        distances: dict[Principal | Right, int] = {right: 0}
        for node in agenda:
            for source in self.backward.get(node, ()):
                if source not in distances:
                    distances[source] = distances[node] + 1
                    agenda.append(source)
        return distances

    def routes(self, source: Principal, right: Right, distances: Mapping[Principal | Right, int]) -> Iterator[tuple[Link, ...]]:
        """Yield the chains of links from a principal to a right, each first step continued by the shortest ways."""
        onward = self.forward.get(source, {})
        for target in distances:  # in the order in which they were found: the nearest first
            for step in onward.get(target, ()):
                for rest in self._onward(target, right, distances, source):
                    if _visits_once(chain := (*step.links, *rest)):
                        yield chain

    def _onward(
        self, node: Principal | Right, right: Right, distances: Mapping[Principal | Right, int], start: Principal
    ) -> Iterator[tuple[Link, ...]]:
        if node == right:
            yield ()
        elif isinstance(node, Principal):
            onward = self.forward.get(node, {})
            nearer = [target for target in distances if target in onward and distances[target] == distances[node] - 1 and target != start]
            for target in nearer:
                for step in onward[target]:
                    for rest in self._onward(target, right, distances, start):
                        yield (*step.links, *rest)


def _visits_once(links: tuple[Link, ...]) -> bool:
    """Return whether a chain comes by everybody at most once; one that comes back has gone nowhere in between."""
    return len({link.source for link in links}) == len(links)


def holdings_from(steps: Sequence[Step]) -> tuple[Holding, ...]:
    """Return who holds which right by which routes, ordered by right, principal and strength of route."""
    graph = _Graph.of(steps)
    rights = sorted({step.target for step in steps if isinstance(step.target, Right)}, key=lambda right: (right.kind, right.detail))
    holdings = []
    for right in rights:
        distances = graph.distances(right)
        holders = [node for node in distances if isinstance(node, Principal)]
        for source in sorted(holders, key=lambda node: (_ORDER.index(node.kind), node.name)):
            found = list(islice(graph.routes(source, right, distances), MOST_ROUTES + 1))
            routes = sorted((_route(links) for links in dict.fromkeys(found[:MOST_ROUTES])), key=_rank)
            if routes:
                holdings.append(Holding(principal=source, right=right, routes=tuple(routes), cut=len(found) - len(found[:MOST_ROUTES])))
    return tuple(holdings)


_ORDER = list(PrincipalKind)


def _rank(route: Route) -> tuple[object, ...]:
    return route.strength, len(route.links), [(link.place, str(link.target)) for link in route.links]


def _route(links: tuple[Link, ...]) -> Route:
    """Return the route of a chain: as strong as its weakest link, and only as strong as the passwords that it asks for on the way.

    Whoever acts as another account without having logged in as it does not know that account's password.
    """
    conditions = [condition for link in links for condition in link.conditions]
    start = links[0].source.name
    conditions += [
        f"if the password of {link.secret_of} is known" for link in links if link.secret_of is not None and link.secret_of != start
    ]
    weakest = max(link.strength for link in links)
    return Route(
        links=links,
        strength=Strength.CONDITIONAL if conditions else weakest,
        conditions=tuple(dict.fromkeys(conditions)),
    )
