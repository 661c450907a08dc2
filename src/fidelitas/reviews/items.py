"""What a review is about: holdings as they were when it began, those that are decided together as one item.

An item is a holder and a right, with the subjects on which it is held in the same way.  Everything is plain text, so that it can be kept,
signed and read without the evidence.
"""

import hashlib
from collections.abc import Callable, Iterable, Mapping, Sequence

import msgspec
from msgspec import Struct

from fidelitas.charter.scope import is_systems_own
from fidelitas.rights import Holding, Link, Mechanism, PrincipalKind, Route

__all__ = ["CitedLink", "FrozenHolding", "Item", "Review", "freeze", "is_of_all", "state_of"]


class CitedLink(msgspec.Struct, frozen=True, kw_only=True):
    """A link of a route in words, with the place that states it; `line` and `column` are missing where the place is a whole file."""

    source: str
    target: str
    mechanism: str
    because: str
    quote: str | None
    asks: str | None
    conditions: tuple[str, ...]
    subject: str
    path: str
    line: int | None
    column: int | None


class FrozenHolding(msgspec.Struct, frozen=True, kw_only=True):
    """What is held on one subject: the routes, and `state`, a digest of them that does not depend on where they are written."""

    subject: str
    state: str
    granted: bool
    routes: tuple[tuple[CitedLink, ...], ...]
    routes_not_shown: int


class Carried(msgspec.Struct, frozen=True, kw_only=True):
    """A decision of an earlier review that still counts, or why it does not."""

    review: str
    decision: str
    reason: str
    reviewer: str
    at: str
    reopened: str = ""  # why it has to be decided anew; empty where the decision counts


class Item(msgspec.Struct, frozen=True, kw_only=True):
    """A holder and a right, to be decided for all of its `holdings` at once; `number` counts from 1, the worst first."""

    number: int
    holder: str
    holder_kind: str
    right: str
    persons: tuple[str, ...]
    reviewer: str
    holdings: tuple[FrozenHolding, ...]
    sanction: str | None = None  # what the charter said of it
    last_used: str | None = None  # the day, according to the logs; unknown where there are none
    carried: Carried | None = None

    @property
    def subjects(self) -> tuple[str, ...]:
        """The subjects on which it is held."""
        return tuple(one.subject for one in self.holdings)

    @property
    def granted(self) -> bool:
        """Whether it was granted; if not, it can be obtained by a weakness."""
        return any(one.granted for one in self.holdings)

    @property
    def key(self) -> str:
        """A mark by which a work list that comes back is recognised."""
        text = "\0".join((self.holder, self.right, *(f"{one.subject}\0{one.state}" for one in self.holdings)))
        return hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()[:12]


class Review(msgspec.Struct, frozen=True, kw_only=True):
    """A review as it began: of which survey, by whom its items are to be decided, and the items."""

    name: str
    survey: str
    started: str  # ISO 8601, UTC
    started_by: str
    by: str
    scope: tuple[str, ...]
    version: str
    items: tuple[Item, ...]
    format: int = 1

    def item(self, number: int) -> Item | None:
        """Return an item by its number."""
        return self.items[number - 1] if 0 < number <= len(self.items) else None


class About(Struct, frozen=True):
    """What is known of a holding besides its routes: whose it is, who decides it, what the charter says, when it was used last."""

    persons: tuple[str, ...] = ()
    reviewer: str = "unassigned"
    sanction: str | None = None
    last_used: str | None = None


def freeze(holdings: Iterable[Holding], about: Callable[[Holding], About], *, each: bool = False) -> list[Item]:
    """Return items for holdings, the worst first; with `each` one for every subject.

    The system's own root account is in none, nor are groups: what a group gives is an item of each member.  What every account of a host
    has is an item of that, and not of each account.
    """
    groups: dict[tuple[object, ...], list[tuple[Holding, FrozenHolding, About]]] = {}
    for holding in holdings:
        frozen = _frozen(holding)
        if frozen is None or _is_roots_own(holding) or holding.principal.kind is PrincipalKind.GROUP:
            continue
        known = about(holding)
        shape = frozen.subject if each else _shape(holding)
        key = (str(holding.principal), holding.principal.kind, str(holding.right), frozen.granted, known, shape)
        groups.setdefault(key, []).append((holding, frozen, known))
    ordered = sorted(groups.values(), key=lambda some: _order(some[0][0], len(some)))
    return [_item(number, some) for number, some in enumerate(ordered, 1)]


def _is_roots_own(holding: Holding) -> bool:
    """Return whether it is root that is root, as an account or by root's own password."""
    principal = holding.principal
    return is_systems_own(holding) or (principal.kind is PrincipalKind.PASSWORD and principal.name == "root")


def _item(number: int, some: Sequence[tuple[Holding, FrozenHolding, About]]) -> Item:
    holding, _, known = some[0]
    return Item(
        number=number,
        holder=str(holding.principal),
        holder_kind=holding.principal.kind.value,
        right=str(holding.right),
        persons=known.persons,
        reviewer=known.reviewer,
        holdings=tuple(sorted((frozen for _, frozen, _ in some), key=lambda one: one.subject)),
        sanction=known.sanction,
        last_used=known.last_used,
    )


def _order(holding: Holding, subjects: int) -> tuple[object, ...]:
    """Return the place of an item: full control first, then what is on many subjects."""
    right = holding.right
    return not right.kind.full, right.kind, not holding.granted, -subjects, str(holding.principal), str(right)


def _frozen(holding: Holding) -> FrozenHolding | None:
    """Return a holding with the routes that are its holder's own; nothing where it has none."""
    own = [route for route in holding.routes if not is_of_all(route) or holding.principal.kind is PrincipalKind.ANY_ACCOUNT]
    if not own:
        return None
    return FrozenHolding(
        subject=holding.right.subject,
        state=state_of(own),
        granted=holding.granted,
        routes=tuple(tuple(map(_cited, route.links)) for route in own),
        routes_not_shown=holding.cut,
    )


def is_of_all(route: Route) -> bool:
    """Return whether a route is one that every account of a host has."""
    return any(getattr(link.target, "kind", None) is PrincipalKind.ANY_ACCOUNT for link in route.links)


def _cited(link: Link) -> CitedLink:
    return CitedLink(
        source=str(link.source),
        target=str(link.target),
        mechanism=link.mechanism.value,
        because=link.because,
        quote=link.quote,
        asks=link.asks,
        conditions=link.conditions,
        subject=link.place.subject,
        path=link.place.path,
        line=link.place.line,
        column=link.place.column,
    )


# What these state changes with every other member of a group; who is a member is in the link itself.
_OF_OTHERS = frozenset({Mechanism.MEMBERSHIP, Mechanism.LOGIN_MEMBERSHIP})


def state_of(routes: Iterable[Route]) -> str:
    """Return a digest of routes: the same as long as the same links lead to the right on the same terms, wherever they are written."""
    told = sorted("\n".join(_key(link) for link in route.links) for route in routes)
    return hashlib.sha256("\n\n".join(told).encode("utf-8", "surrogateescape")).hexdigest()[:24]


def _key(link: Link) -> str:
    quote = "" if link.mechanism in _OF_OTHERS else " ".join((link.quote or "").split())
    parts = (str(link.source), str(link.target), link.mechanism.value, link.by.name or "", quote, link.asks or "", *link.conditions)
    return "\t".join(parts)


def _shape(holding: Holding) -> tuple[tuple[str, ...], ...]:
    """Return by which mechanisms a right is held, without what differs from subject to subject."""
    return tuple(
        sorted(tuple(f"{link.mechanism.value} {link.by.name or ''} {link.target}" for link in route.links) for route in holding.routes)
    )


def by_holder_and_right(items: Iterable[Item]) -> Mapping[tuple[str, str], list[Item]]:
    """Return items by their holder and right."""
    found: dict[tuple[str, str], list[Item]] = {}
    for item in items:
        found.setdefault((item.holder, item.right), []).append(item)
    return found
