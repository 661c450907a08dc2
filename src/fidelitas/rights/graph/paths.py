"""Chains of links, the routes that they amount to, and routes to one right as a holding."""

from collections.abc import Iterator, Sequence
from functools import cached_property

from msgspec import Struct

from fidelitas.rights.graph.links import By, Holding, Link, Mechanism, Principal, PrincipalKind, Right, Route, Strength

__all__ = ["MOST_ROUTES", "Edge", "LinkPath", "Memberships", "Tail", "further_links", "holding_by", "holding_of", "visits_once", "weakest"]

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


class Memberships(tuple[Link, ...]):  # noqa: SLOT001 what was worked out is kept
    """Memberships that follow one another, by which an account is in a group: the same on every host that takes them from a directory."""

    @cached_property
    def rank(self) -> list[tuple[object, ...]]:
        """By what chains of equal strength and length are ordered."""
        return _rank(self)

    @cached_property
    def are_plain(self) -> bool:
        """Whether what they lead to is had as it is there."""
        return all(map(_is_plain, self))


class Tail(Struct, frozen=True, dict=True):
    """Links that many chains end with, and what a route is by them: worked out once for all holders that come to the first of them.

    `asked` are accounts whose own password is asked for on the way, each with whether the holder knows it who is that account.
    """

    links: LinkPath
    strength: Strength
    conditions: tuple[str, ...]
    asked: tuple[tuple[Principal, bool], ...]

    @classmethod
    def of(cls, links: LinkPath) -> "Tail":
        """Return what a route is by its last links, or by all of them."""
        conditions = tuple(condition for link in links for condition in link.conditions)
        asked = tuple(_passwords_to_know(links)) if any(link.own_password for link in links) else ()
        return cls(links, weakest(links), conditions, asked)

    @cached_property
    def rank(self) -> list[tuple[object, ...]]:
        """By what chains of equal strength and length are ordered."""
        return _rank(self.links)


def holding_of(source: Principal, right: Right, chains: Sequence[LinkPath]) -> Holding:
    """Return the holding that chains of links from a principal to a right make; those beyond the limit are counted and not kept."""
    different = chains if len(chains) == 1 else dict.fromkeys(chains[:MOST_ROUTES])  # most have one, and its rank costs more than all else
    return _holding(source, right, [((), Tail.of(links)) for links in different], len(chains))


def holding_by(source: Principal, right: Right, ways: Sequence[tuple[LinkPath, Tail]]) -> Holding:
    """Return the same of chains in two parts: the memberships by which an account comes to a link, and that link with all behind it."""
    if len(ways) == 1:
        return _holding(source, right, ways, 1)
    different = {(*head, *tail.links): (head, tail) for head, tail in ways[:MOST_ROUTES]}
    return _holding(source, right, list(different.values()), len(ways))


def _holding(source: Principal, right: Right, ways: Sequence[tuple[LinkPath, Tail]], count: int) -> Holding:
    whole = [(head, tail) if _are_plain(head) else ((), Tail.of((*head, *tail.links))) for head, tail in ways]
    routes = [_route(head, tail) for head, tail in whole]
    if len(routes) > 1:
        ranked = sorted(
            zip(routes, whole, strict=True),
            key=lambda one: (one[0].strength, len(one[0].links), [*_rank_of(one[1][0]), *one[1][1].rank]),
        )
        routes = [route for route, _ in ranked]
    return Holding(principal=source, right=right, routes=tuple(routes), cut=max(count - MOST_ROUTES, 0))


def _are_plain(head: LinkPath) -> bool:
    return head.are_plain if isinstance(head, Memberships) else all(map(_is_plain, head))


def _rank_of(head: LinkPath) -> list[tuple[object, ...]]:
    return head.rank if isinstance(head, Memberships) else _rank(head)


def _is_plain(link: Link) -> bool:
    """Return whether a link makes a route no weaker and leads to a group, so that nothing behind it depends on it."""
    return (
        link.strength is Strength.DIRECT
        and not link.own_password
        and not link.conditions
        and isinstance(link.target, Principal)
        and link.target.kind in _GROUPS
    )


_GROUPS = frozenset({PrincipalKind.GROUP, PrincipalKind.ANY_ACCOUNT})


def _rank(links: LinkPath) -> list[tuple[object, ...]]:
    return [(link.place, str(link.target)) for link in links]


def _route(head: LinkPath, tail: Tail) -> Route:
    """Return the route of a chain: as strong as its weakest link, and only as strong as the passwords that it asks for on the way.

    Anyone who acts as another account without having logged in as it does not know that account's password.
    """
    links = (*head, *tail.links)
    known = (account for account, knows in tail.asked if not (knows and account == links[0].source))
    conditions = dict.fromkeys((*tail.conditions, *(f"if the password of {account.name} is known" for account in known)))
    return Route(links=links, strength=Strength.CONDITIONAL if conditions else tail.strength, conditions=tuple(conditions))


def _passwords_to_know(links: LinkPath) -> Iterator[tuple[Principal, bool]]:
    """Yield the accounts whose own password is asked for, each with whether the one who goes the way is still who set out."""
    start: Principal | None = None  # who set out, until a permission sets another account's password
    account: Principal | None = None
    for link in links:
        if link.source.kind is PrincipalKind.ACCOUNT:
            account = link.source
        into = link.target if isinstance(link.target, Principal) and link.target.kind is PrincipalKind.ACCOUNT else None
        if link.mechanism is Mechanism.PERMISSION and into is not None:  # who may change an account sets its password
            start = account = into
        if link.own_password and account is not None and account != start:
            yield account, start is None
