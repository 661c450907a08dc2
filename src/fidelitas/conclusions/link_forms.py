"""Links, routes and holdings in the form in which conclusions are kept: each link once, in columns, since routes share them.

What repeats is stated once and named by its number: texts, places, who or what a link leads from and to.  So a thousand links are read at
the cost of some lists of numbers, and a link is made when it is asked for.
"""

from collections.abc import Hashable, Iterable, Sequence
from itertools import chain
from typing import Annotated, Any

import msgspec

from fidelitas.conclusions.typed import ConclusionError
from fidelitas.rights import By, Holding, Link, LinkKind, Mechanism, Principal, PrincipalKind, Right, RightKind, Route, Strength
from fidelitas.text import Place

__all__ = [
    "Chain",
    "End",
    "HoldingForm",
    "HoldingsForm",
    "LinkList",
    "LinkTable",
    "LinksForm",
    "Number",
    "all_below",
    "end_form",
    "end_of",
    "holding_form",
    "holding_of",
    "holdings_in",
]

Number = Annotated[int, msgspec.Meta(ge=0)]
Chain = Annotated[tuple[Number, ...], msgspec.Meta(min_length=1)]  # links that follow one another, by their numbers
_NONE = 0  # the number of no text
# Of a principal its kind, name, subject and further names; of a right its kind, detail, subject, and on what it is.
End = tuple[PrincipalKind | RightKind, str, str, tuple[str, ...] | str | None]


class LinksForm(msgspec.Struct, array_like=True):
    """Links in columns; of each the numbers of its texts, ends and places."""

    texts: list[str]  # the first stands for none
    ends: list[End]
    places: list[Place]
    sources: list[Number]
    targets: list[Number]
    kinds: list[LinkKind]
    strengths: list[Strength]
    mechanisms: list[Mechanism]
    names: list[Number]
    because: list[Number]
    quotes: list[Number]
    asks: list[Number]
    own_password: list[bool]
    conditions: list[tuple[Number, ...]]
    at: list[Number]
    behind: list[tuple[Number, ...]]

    @property
    def columns(self) -> tuple[list[Any], ...]:
        """What there is one of for each link."""
        return (
            self.sources, self.targets, self.kinds, self.strengths, self.mechanisms, self.names, self.because, self.quotes, self.asks,
            self.own_password, self.conditions, self.at, self.behind,
        )  # fmt: skip


class _RouteForm(msgspec.Struct, array_like=True):
    links: Chain
    strength: Strength
    conditions: tuple[str, ...]


class HoldingForm(msgspec.Struct, array_like=True):
    """A holding: its principal and right among the ends, its routes by the numbers of links."""

    principal: Number
    right: Number
    routes: tuple[_RouteForm, ...]
    cut: int


class HoldingsForm(msgspec.Struct, array_like=True):
    """Holdings, and the links that they are made of."""

    links: LinksForm
    holdings: list[HoldingForm]


class _Numbered:
    """Values by number, each once."""

    def __init__(self, *first: Any) -> None:
        self.values: list[Any] = list(first)
        self._numbers: dict[Hashable, int] = {}

    def number(self, value: Any) -> int:
        known = self._numbers.setdefault(value, len(self.values))
        if known == len(self.values):
            self.values.append(value)
        return known


class LinkTable:
    """Links by number, each once, while what has them is written."""

    def __init__(self) -> None:
        self._numbers: dict[int, int] = {}  # by identity
        self._links: list[Link] = []
        self._ends = _Numbered()

    def chain(self, links: Iterable[Link]) -> Chain:
        """Return links by their numbers."""
        return tuple(map(self.number, links))

    def number(self, link: Link) -> int:
        """Return the number of a link."""
        known = self._numbers.get(id(link))
        if known is None:
            known = self._numbers[id(link)] = len(self._links)
            self._links.append(link)  # which holds it, so that its identity stays its own
        return known

    def end(self, end: Principal | Right) -> int:
        """Return the number of what a link can lead from or to."""
        return self._ends.number(end)

    def form(self) -> LinksForm:
        """Return all links so far in the form; what is numbered later is not in it."""
        links, texts, places = self._links, _Numbered(""), _Numbered()
        text = texts.number

        def text_or_none(one: str | None) -> int:
            return _NONE if one is None else text(one)

        return LinksForm(
            sources=[self.end(one.source) for one in links],
            targets=[self.end(one.target) for one in links],
            kinds=[one.kind for one in links],
            strengths=[one.strength for one in links],
            mechanisms=[one.by.mechanism for one in links],
            names=[text_or_none(one.by.name) for one in links],
            because=[text(one.because) for one in links],
            quotes=[text_or_none(one.quote) for one in links],
            asks=[text_or_none(one.asks) for one in links],
            own_password=[one.own_password for one in links],
            conditions=[tuple(map(text, one.conditions)) for one in links],
            at=[places.number(one.place) for one in links],
            behind=[tuple(map(places.number, one.behind)) for one in links],
            texts=texts.values,
            ends=list(map(end_form, self._ends.values)),
            places=places.values,
        )


class LinkList(Sequence[Link]):
    """Links that were kept, each made when it is asked for."""

    def __init__(self, form: LinksForm) -> None:
        """Raise `ConclusionError` where the form names what is not there."""
        self._form = _checked(form)
        self._made: dict[int, Link] = {}
        self._ends: dict[int, Principal | Right] = {}

    def __len__(self) -> int:
        """Return how many there are."""
        return len(self._form.sources)

    def __getitem__(self, number: int) -> Link:  # type: ignore[override]
        """Return a link by its number."""
        known = self._made.get(number)
        if known is None:
            known = self._made[number] = self._link(number)
        return known

    def chain(self, numbers: Chain) -> tuple[Link, ...]:
        """Return links by their numbers."""
        return tuple(map(self.__getitem__, numbers))

    def principals(self) -> Iterable[tuple[int, Principal]]:
        """Return the ends that are principals, with their numbers."""
        numbers = (number for number, end in enumerate(self._form.ends) if isinstance(end[0], PrincipalKind))
        return ((number, self.principal(number)) for number in numbers)

    def principal(self, number: int) -> Principal:
        """Return an end that is a principal; raises `ConclusionError` of another."""
        found = self.end(number)
        if isinstance(found, Right):
            raise ConclusionError("a right in the place of a principal")
        return found

    def right(self, number: int) -> Right:
        """Return an end that is a right; raises `ConclusionError` of another."""
        found = self.end(number)
        if isinstance(found, Principal):
            raise ConclusionError("a principal in the place of a right")
        return found

    def end(self, number: int) -> Principal | Right:
        """Return what a link can lead from or to, by its number."""
        known = self._ends.get(number)
        if known is None:
            known = self._ends[number] = end_of(self._form.ends[number])
        return known

    def has_ends(self, principals: Iterable[int], rights: Iterable[int]) -> bool:
        """Return whether these are numbers of principals, and those of rights."""
        kinds = [isinstance(end[0], PrincipalKind) for end in self._form.ends]
        count = len(kinds)
        return all(number < count and kinds[number] for number in principals) and all(
            number < count and not kinds[number] for number in rights
        )

    def _link(self, number: int) -> Link:
        form = self._form
        texts, places = form.texts, form.places
        name, quote, asks = (texts[one] if one != _NONE else None for one in (form.names[number], form.quotes[number], form.asks[number]))
        return Link(
            source=self.principal(form.sources[number]),
            target=self.end(form.targets[number]),
            kind=form.kinds[number],
            strength=form.strengths[number],
            by=By(form.mechanisms[number], name),
            because=texts[form.because[number]],
            quote=quote,
            asks=asks,
            own_password=form.own_password[number],
            conditions=tuple(texts[one] for one in form.conditions[number]),
            place=places[form.at[number]],
            behind=tuple(places[one] for one in form.behind[number]),
        )


def _checked(form: LinksForm) -> LinksForm:
    """Return links as they were read; raises `ConclusionError` where they name what is not there."""
    kinds = [isinstance(end[0], PrincipalKind) for end in form.ends]
    ends, texts, places = len(kinds), len(form.texts), len(form.places)
    if (
        len(set(map(len, form.columns))) != 1
        or not all_below(ends, form.sources, form.targets)
        or not all_below(texts, form.names, form.because, form.quotes, form.asks, *form.conditions)
        or not all_below(places, form.at, *form.behind)
        or not all(kinds[number] for number in set(form.sources))
        or any(isinstance(end[3], tuple) is not kind for end, kind in zip(form.ends, kinds, strict=True))
    ):
        raise ConclusionError("links that name what is not there")
    return form


def all_below(limit: int, *lists: Iterable[int]) -> bool:
    """Return whether all numbers in some lists are below a limit."""
    return max(chain.from_iterable(lists), default=-1) < limit


def holdings_in(read: HoldingsForm) -> tuple[LinkList, tuple[Holding, ...]]:
    """Return the links and the holdings that were kept; raises `ConclusionError`."""
    links, holdings = LinkList(read.links), read.holdings
    chains = (route.links for one in holdings for route in one.routes)
    if not all_below(len(links), *chains) or not links.has_ends([one.principal for one in holdings], [one.right for one in holdings]):
        raise ConclusionError("holdings that name what is not there")
    return links, tuple(holding_of(one, links) for one in holdings)


def holding_form(holding: Holding, table: LinkTable) -> HoldingForm:
    """Return a holding in the form, by the numbers of a table."""
    routes = (_RouteForm(table.chain(route.links), route.strength, route.conditions) for route in holding.routes)
    return HoldingForm(table.end(holding.principal), table.end(holding.right), tuple(routes), holding.cut)


def holding_of(one: HoldingForm, links: LinkList) -> Holding:
    """Return the holding that was kept; raises `ConclusionError` where its ends are none."""
    routes = (Route(links=links.chain(route.links), strength=route.strength, conditions=route.conditions) for route in one.routes)
    return Holding(principal=links.principal(one.principal), right=links.right(one.right), routes=tuple(routes), cut=one.cut)


def end_form(end: Principal | Right) -> End:
    """Return what a link can lead from or to in the form."""
    if isinstance(end, Principal):
        return end.kind, end.name, end.subject, end.aliases
    return end.kind, end.detail, end.subject, end.on


def end_of(form: End) -> Principal | Right:
    """Return what a link can lead from or to of its form."""
    kind, name, subject, rest = form
    if isinstance(kind, RightKind):
        return Right(kind=kind, detail=name, subject=subject, on=None if rest is None else str(rest))
    return Principal(kind=kind, name=name, subject=subject, aliases=rest if isinstance(rest, tuple) else ())
