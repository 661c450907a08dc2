"""The form in which conclusions are kept: MessagePack, read back as the types that it was made of, and as nothing else.

Whatever is not of that form is refused with `ConclusionError`, and the evidence is judged again.  Text that is not Unicode cannot be
stated: what has such names is not kept.
"""

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Protocol, TypeVar, get_args, get_origin

import msgspec

from fidelitas.facts import Gap
from fidelitas.findings import Finding
from fidelitas.rights import By, Holding, Link, LinkKind, Mechanism, Principal, PrincipalKind, Right, RightKind, Route, Strength
from fidelitas.rights.accounts.identity import AccountInBrief
from fidelitas.rights.linux.dates import Span
from fidelitas.rights.linux.summary import HostSummary
from fidelitas.text import Place

__all__ = [
    "FINDINGS",
    "Conclusion",
    "ConclusionError",
    "Holders",
    "LinkForm",
    "Mark",
    "Share",
    "decode",
    "decode_holdings",
    "encode",
    "encode_holdings",
    "link_form",
    "link_of",
]

T = TypeVar("T")


class Mark(Protocol):
    """What is known of evidence without reading it.

    `digest` is of all of it; `stated` of what is the same whenever it is taken; `frame` of its files, which others may have as well.
    """

    @property
    def digest(self) -> bytes: ...
    @property
    def stated(self) -> bytes: ...
    @property
    def frame(self) -> bytes: ...
    @property
    def taken(self) -> datetime: ...


class ConclusionError(Exception):
    """What was kept is not of the form."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Share:
    """That a host's evidence states what another's does: the key of that one, and what is the host's own.

    It holds for evidence of another time within the `span` in which none of the dates passes that the host's policy and accounts name;
    where processes of the moment are cited, for `only` that evidence.
    """

    like: bytes
    host_name: str
    span: Span
    only: bytes | None

    def holds_for(self, mark: Mark) -> bool:
        """Return whether it holds for evidence that states the same."""
        since, until = self.span
        moment = mark.taken.timestamp()
        return self.only in (None, mark.digest) and (since is None or since <= moment) and (until is None or moment < until)


@dataclass(frozen=True, slots=True, kw_only=True)
class Conclusion:
    """What was concluded of a host, and of all that state the same.

    `names` are the accounts and groups that it has by itself; `takes_directory` says that those of the directory are accounts here as well.
    """

    taken_by: int | None
    live: bool
    gaps: tuple[Gap, ...]
    summary: HostSummary
    names: frozenset[str]
    accounts: dict[str, bool | None]  # its own, each with whether someone can log in by it
    takes_directory: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Holders:
    """Who holds what on a host, all of it, and what a list of holders shows of each: of a host with few holdings."""

    holdings: bytes  # in the form of `encode_holdings`
    accounts: dict[str, AccountInBrief]
    members: dict[str, int]
    account_count: int


_Node = tuple[str, str, str]  # kind, name, subject
_End = tuple[str | int, str, str, str | None]  # of a principal its kind by name, of a right its kind by number; detail or name, subject, on


class LinkForm(msgspec.Struct, array_like=True):
    source: _Node
    target: _End
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


class _Route(msgspec.Struct, array_like=True):
    links: tuple[int, ...]
    strength: Strength
    conditions: tuple[str, ...]


class _Holding(msgspec.Struct, array_like=True):
    principal: _Node
    right: _End
    routes: tuple[_Route, ...]
    cut: int


class _Holdings(msgspec.Struct, array_like=True):
    links: list[LinkForm]  # each once: routes share them
    holdings: list[_Holding]


def encode(value: object) -> bytes | None:
    """Return a value in the form, or ``None`` where it holds text that cannot be stated."""
    try:
        return msgspec.msgpack.encode(value)
    except UnicodeEncodeError:
        return None


def decode(content: bytes, kind: type[T]) -> T:
    """Return the value that was kept; raises `ConclusionError`."""
    try:
        return msgspec.msgpack.decode(content, type=kind, dec_hook=_counter)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError, NotImplementedError) as error:
        raise ConclusionError(str(error)) from error


def _counter(kind: Any, stated: object) -> object:
    """Return what was kept of counts, which MessagePack has as a map."""
    if get_origin(kind) is not Counter:
        raise NotImplementedError(f"{kind} is not of the form")
    (counted,) = get_args(kind)
    return Counter(msgspec.convert(stated, dict[counted, int]))  # type: ignore[valid-type]


def encode_holdings(holdings: Iterable[Holding]) -> bytes | None:
    """Return holdings in the form, or ``None`` where they hold text that cannot be stated."""
    numbers: dict[int, int] = {}
    links: list[Link] = []
    rows = []
    for holding in holdings:
        routes = []
        for route in holding.routes:
            for link in route.links:
                if id(link) not in numbers:
                    numbers[id(link)] = len(links)
                    links.append(link)
            routes.append(_Route(tuple(numbers[id(link)] for link in route.links), route.strength, route.conditions))
        rows.append(_Holding(_node(holding.principal), _end(holding.right), tuple(routes), holding.cut))
    return encode(_Holdings([_stated(link) for link in links], rows))


def decode_holdings(content: bytes) -> tuple[Holding, ...]:
    """Return the holdings that were kept; raises `ConclusionError`."""
    read = decode(content, _Holdings)
    try:
        links = [_link(one) for one in read.links]
        return tuple(
            Holding(
                principal=_principal(*one.principal),
                right=_right(one.right),
                routes=tuple(
                    Route(links=tuple(links[number] for number in route.links), strength=route.strength, conditions=route.conditions)
                    for route in one.routes
                ),
                cut=one.cut,
            )
            for one in read.holdings
        )
    except (ValueError, IndexError, TypeError) as error:
        raise ConclusionError(str(error)) from error


def _node(principal: Principal) -> _Node:
    return principal.kind.value, principal.name, principal.subject


def _end(target: Principal | Right) -> _End:
    if isinstance(target, Principal):
        return target.kind.value, target.name, target.subject, None
    return int(target.kind), target.detail, target.subject, target.on


def link_form(link: Link | None) -> LinkForm | None:
    """Return a link in the form."""
    return None if link is None else _stated(link)


def link_of(form: LinkForm | None) -> Link | None:
    """Return the link that was kept; raises `ValueError` where it is none."""
    return None if form is None else _link(form)


def _stated(link: Link) -> LinkForm:
    return LinkForm(
        _node(link.source), _end(link.target), link.kind, link.strength, link.by.mechanism, link.by.name, link.because, link.quote,
        link.asks, link.own_password, link.conditions, link.place, link.behind,
    )  # fmt: skip


def _link(one: LinkForm) -> Link:
    kind, name, subject, _ = one.target
    return Link(
        source=_principal(*one.source),
        target=_principal(kind, name, subject) if isinstance(kind, str) else _right(one.target),
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


def _principal(kind: str, name: str, subject: str) -> Principal:
    return Principal(kind=PrincipalKind(kind), name=name, subject=subject)


def _right(stated: Sequence[Any]) -> Right:
    kind, detail, subject, on = stated
    return Right(kind=RightKind(kind), detail=detail, subject=subject, on=on)


FINDINGS = tuple[Finding, ...]
