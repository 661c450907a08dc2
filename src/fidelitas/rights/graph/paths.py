"""Chains of links, the routes that they amount to, and routes to one right as a holding."""

from collections.abc import Iterator, Sequence

from msgspec import Struct

from fidelitas.rights.graph.links import By, Holding, Link, Mechanism, Principal, PrincipalKind, Right, Route, Strength

__all__ = ["MOST_ROUTES", "Edge", "LinkPath", "further_links", "holding_of", "visits_once", "weakest"]

# Links that follow one another.
LinkPath = tuple[Link, ...]


class Edge(Struct, frozen=True):
    """One way on for a principal: a link, or a membership and the link that it opens."""

    links: LinkPath

    @property
    def source(self) -> Principal:
        """Who can go it."""
        return self.links[0].source

    @property
    def target(self) -> Principal | Right:
        """Where it leads."""
        return self.links[-1].target

    @property
    def strength(self) -> Strength:
        """As strong as its weakest link."""
        return weakest(self.links)


# Routes kept for one holding; beyond that they are counted.  No reader follows more, and hostile policies can make very many.
MOST_ROUTES = 32


def weakest(links: LinkPath) -> Strength:
    """Return the strength of the weakest of some links."""
    return max(link.strength for link in links)


def further_links(before: Link, target: Principal | Right, count: int, strength: Strength) -> Link:
    """Return the link that stands for many: from where the one before leads to a target, over `count` links that are not listed."""
    if not isinstance(before.target, Principal):
        raise TypeError("nothing leads on from a right")
    return Link(
        source=before.target,
        target=target,
        kind=before.kind,
        strength=strength,
        by=By(Mechanism.FURTHER, str(count)),
        because=f"{count} further links lead on to it, more than are listed",
        conditions=("as some of those links say",) if strength is Strength.CONDITIONAL else (),
        place=before.place,
    )


def visits_once(links: tuple[Link, ...]) -> bool:
    """Return whether a chain comes by everyone at most once; one that comes back has gone nowhere in between."""
    return len({link.source for link in links}) == len(links)


def holding_of(source: Principal, right: Right, chains: Sequence[LinkPath]) -> Holding:
    """Return the holding that chains of links from a principal to a right make; those beyond the limit are counted and not kept."""
    different = chains if len(chains) == 1 else dict.fromkeys(chains[:MOST_ROUTES])  # most have one, and its rank costs more than all else
    routes = [_route(links) for links in different]
    if len(routes) > 1:
        routes.sort(key=_rank)
    return Holding(principal=source, right=right, routes=tuple(routes), cut=max(len(chains) - MOST_ROUTES, 0))


def _rank(route: Route) -> tuple[object, ...]:
    return route.strength, len(route.links), [(link.place, str(link.target)) for link in route.links]


def _route(links: tuple[Link, ...]) -> Route:
    """Return the route of a chain: as strong as its weakest link, and only as strong as the passwords that it asks for on the way.

    Anyone who acts as another account without having logged in as it does not know that account's password.
    """
    conditions = [condition for link in links for condition in link.conditions]
    if any(link.own_password for link in links):
        conditions += _passwords_to_know(links)
    return Route(
        links=links,
        strength=Strength.CONDITIONAL if conditions else weakest(links),
        conditions=tuple(dict.fromkeys(conditions)),
    )


def _passwords_to_know(links: tuple[Link, ...]) -> Iterator[str]:
    start = account = links[0].source
    for link in links:
        if link.source.kind is PrincipalKind.ACCOUNT:
            account = link.source
        into = link.target if isinstance(link.target, Principal) and link.target.kind is PrincipalKind.ACCOUNT else None
        if link.mechanism is Mechanism.PERMISSION and into is not None:  # who may change an account sets its password
            start = account = into
        if link.own_password and account.kind is PrincipalKind.ACCOUNT and account != start:
            yield f"if the password of {account.name} is known"
