"""Links, routes and holdings in the form in which conclusions are kept: links in one list, each once, since routes share them."""

from collections.abc import Iterable, Sequence
from typing import Annotated

import msgspec

from fidelitas.conclusions.typed import ConclusionError, decode, encode
from fidelitas.rights import By, Holding, Link, LinkKind, Mechanism, Principal, PrincipalKind, Right, RightKind, Route, Strength
from fidelitas.text import Place

__all__ = [
    "Chain",
    "End",
    "HoldingForm",
    "LinkForm",
    "LinkList",
    "LinkTable",
    "Node",
    "Number",
    "decode_holdings",
    "encode_holdings",
    "end_form",
    "holding_form",
    "holding_of",
    "link_form",
    "link_of",
    "node_form",
    "principal_of",
    "right_of",
]

Node = tuple[PrincipalKind, str, str, tuple[str, ...]]  # kind, name, subject, further names
# Of a principal as above; of a right its kind, detail, subject, and on what it is.
End = tuple[PrincipalKind | RightKind, str, str, tuple[str, ...] | str | None]
Number = Annotated[int, msgspec.Meta(ge=0)]
Chain = tuple[Number, ...]  # links that follow one another, by their numbers


class LinkForm(msgspec.Struct, array_like=True):
    source: Node
    target: End
    kind: LinkKind
    strength: Strength
    mechanism: Mechanism
    name: str | None
    because: str
    quote: str | None
    asks: str | None
    own_password: bool
    conditions: tuple[str, ...]
    place: Place
    behind: tuple[Place, ...]


class _RouteForm(msgspec.Struct, array_like=True):
    links: Chain
    strength: Strength
    conditions: tuple[str, ...]


class HoldingForm(msgspec.Struct, array_like=True):
    principal: Node
    right: End
    routes: tuple[_RouteForm, ...]
    cut: int


class _Holdings(msgspec.Struct, array_like=True):
    links: list[LinkForm]
    holdings: list[HoldingForm]


class LinkTable:
    """Links by number, each once, while what has them is written."""

    def __init__(self) -> None:
        self._numbers: dict[int, int] = {}  # by identity
        self._links: list[Link] = []

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

    def forms(self) -> list[LinkForm]:
        """Return all links so far in the form."""
        return list(map(_stated, self._links))


class LinkList(Sequence[Link]):
    """Links that were kept, each made when it is asked for."""

    def __init__(self, forms: Sequence[LinkForm]) -> None:
        self._forms = forms
        self._made: dict[int, Link] = {}

    def __len__(self) -> int:
        """Return how many there are."""
        return len(self._forms)

    def __getitem__(self, number: int) -> Link:  # type: ignore[override]
        """Return a link by its number; raises `IndexError`."""
        known = self._made.get(number)
        if known is None:
            known = self._made[number] = _link(self._forms[number])
        return known

    def chain(self, numbers: Chain) -> tuple[Link, ...]:
        """Return links by their numbers."""
        return tuple(map(self.__getitem__, numbers))


def encode_holdings(holdings: Iterable[Holding]) -> bytes | None:
    """Return holdings in the form, or ``None`` where they hold text that cannot be stated."""
    table = LinkTable()
    rows = [holding_form(holding, table) for holding in holdings]
    return encode(_Holdings(table.forms(), rows))


def decode_holdings(content: bytes) -> tuple[Holding, ...]:
    """Return the holdings that were kept; raises `ConclusionError`."""
    read = decode(content, _Holdings)
    links = LinkList(read.links)
    try:
        return tuple(holding_of(one, links) for one in read.holdings)
    except (IndexError, TypeError) as error:
        raise ConclusionError(str(error)) from error


def holding_form(holding: Holding, table: LinkTable) -> HoldingForm:
    """Return a holding in the form, its links by their numbers in a table."""
    routes = (_RouteForm(table.chain(route.links), route.strength, route.conditions) for route in holding.routes)
    return HoldingForm(node_form(holding.principal), end_form(holding.right), tuple(routes), holding.cut)


def holding_of(one: HoldingForm, links: LinkList) -> Holding:
    """Return the holding that was kept."""
    routes = (Route(links=links.chain(route.links), strength=route.strength, conditions=route.conditions) for route in one.routes)
    return Holding(principal=principal_of(one.principal), right=right_of(one.right), routes=tuple(routes), cut=one.cut)


def node_form(principal: Principal) -> Node:
    """Return a principal in the form."""
    return principal.kind, principal.name, principal.subject, principal.aliases


def end_form(target: Principal | Right) -> End:
    """Return in the form where a link leads."""
    if isinstance(target, Principal):
        return node_form(target)
    return target.kind, target.detail, target.subject, target.on


def principal_of(node: Node) -> Principal:
    """Return the principal that was kept."""
    kind, name, subject, aliases = node
    return Principal(kind=kind, name=name, subject=subject, aliases=aliases)


def right_of(end: End) -> Right:
    """Return the right that was kept; raises `TypeError` where it is none."""
    kind, detail, subject, on = end
    if not isinstance(kind, RightKind) or isinstance(on, tuple):
        raise TypeError("a right was kept as something else")
    return Right(kind=kind, detail=detail, subject=subject, on=on)


def link_form(link: Link | None) -> LinkForm | None:
    """Return a link in the form."""
    return None if link is None else _stated(link)


def link_of(form: LinkForm | None) -> Link | None:
    """Return the link that was kept; raises `TypeError` where it is none."""
    return None if form is None else _link(form)


def _stated(link: Link) -> LinkForm:
    return LinkForm(
        node_form(link.source), end_form(link.target), link.kind, link.strength, link.by.mechanism, link.by.name, link.because, link.quote,
        link.asks, link.own_password, link.conditions, link.place, link.behind,
    )  # fmt: skip


def _link(one: LinkForm) -> Link:
    return Link(
        source=principal_of(one.source),
        target=_target(one.target),
        kind=one.kind,
        strength=one.strength,
        by=By(one.mechanism, one.name),
        because=one.because,
        quote=one.quote,
        asks=one.asks,
        own_password=one.own_password,
        conditions=one.conditions,
        place=one.place,
        behind=one.behind,
    )


def _target(end: End) -> Principal | Right:
    kind, name, subject, aliases = end
    if isinstance(kind, PrincipalKind) and isinstance(aliases, tuple):
        return principal_of((kind, name, subject, aliases))
    return right_of(end)
