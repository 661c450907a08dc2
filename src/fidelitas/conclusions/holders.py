"""Who holds what on a host, as it is kept: what each holder has by itself, and what groups give to the accounts that are in them.

Thousands of people of a directory can be accounts of a host.  What they hold by their groups is kept by link, as it was worked out: which
links an account takes, and where each leads.  By which groups an account comes to a link the directory says, which is the same for all
hosts; of accounts that are not just as a directory has them it is kept here.
"""

import sys
from array import array
from collections import ChainMap
from collections.abc import Callable, Container, ItemsView, Iterable, Iterator, Mapping, Sequence, ValuesView
from functools import cached_property
from itertools import chain
from typing import NamedTuple

import msgspec

from fidelitas.conclusions.link_forms import (
    Chain,
    HoldingForm,
    LinkList,
    LinksForm,
    LinkTable,
    Number,
    all_below,
    holding_form,
    holding_of,
)
from fidelitas.conclusions.typed import ConclusionError, decode, encode
from fidelitas.facts import DirectorySource
from fidelitas.rights import Holding, HostRights, Identity, Link, Principal, PrincipalKind
from fidelitas.rights.accounts.identity import AccountInBrief, AccountWithGroups
from fidelitas.rights.accounts.nesting import Nesting
from fidelitas.rights.graph.group_edges import GroupEdge, GroupEdges
from fidelitas.rights.graph.links import sought
from fidelitas.rights.graph.paths import LinkPath
from fidelitas.rights.graph.routes import order_of
from fidelitas.rights.linux.host import is_own
from fidelitas.rights.linux.nodes import Nodes

__all__ = ["HoldersInBrief", "KeptHolders", "NestingOf", "encode_holders"]

_NOTHING = 0  # in place of the number of a class of accounts
# What a host of some name takes of directories, by what its files say.
NestingOf = Callable[[tuple[DirectorySource, ...], str], Nesting | None]


# By right, the numbers of the edges from which it is reached, each with the chains of links that lead on from there.
_Onward = list[tuple[Number, list[tuple[Number, list[Chain]]]]]


class _OwnForm(msgspec.Struct, array_like=True):
    """An account that is not just as a directory has it: by which chains it is in each group, and an account like any."""

    node: Number
    ways: list[tuple[int | None, list[Chain]]]


class _LentForm(msgspec.Struct, array_like=True):
    """What groups give: accounts are of classes, of which each takes the same links."""

    edges: list[tuple[Number, int | None]]  # a link, and the group that gives it; of none the link that any account has
    onward: _Onward
    classes: list[tuple[Number, ...]]
    own: dict[str, _OwnForm]
    groups: dict[int, str]


class _HoldersForm(msgspec.Struct, array_like=True):
    subject: str
    links: LinksForm
    by_node: list[HoldingForm]
    lent: _LentForm
    accounts: dict[str, AccountWithGroups]
    members: dict[str, int]
    account_count: int


class _KeptForm(msgspec.Struct, array_like=True):
    """All of it, behind what says whether someone holds anything: most hold nothing on most hosts."""

    sought_by: list[str]  # by which names those are looked up who hold anything by themselves
    column: bytes  # of the accounts of the directory in their order, the class of each from 1 on; 0 where it takes no link
    elsewhere: dict[str, Number]  # the same of accounts that it does not have
    sources: tuple[DirectorySource, ...] | None  # what the host asks of directories; None where it asks none
    names: bytes  # a digest of the accounts of the directory in their order
    host_name: str
    all: msgspec.Raw


# -- written -------------------------------------------------------------------------------------------------------------------------


def encode_holders(host: HostRights) -> bytes | None:
    """Return who holds what on a host that was judged in the form, or ``None`` where it holds text that cannot be stated."""
    table, nesting = LinkTable(), host.population.nesting
    by_node = [holding_form(holding, table) for holding in host.by_node]
    classes: dict[tuple[int, ...], int] = {}
    numbers = {name: classes.setdefault(taken, len(classes) + 1) for name, taken in host.group_edges.numbers.items()}
    lent = _lent(host, table, classes)
    principals = {held.principal: None for held in host.by_node}
    names = [*(one.name for one in principals if one.kind is PrincipalKind.ACCOUNT), *lent.own]
    accounts = {name: who.with_groups for name in names if (who := host.population.by_name.get(name)) is not None}
    members = {one.name: host.member_count(one.name) for one in principals if one.kind is PrincipalKind.GROUP}
    whole = encode(_HoldersForm(host.subject, table.form(), by_node, lent, accounts, members, host.account_count))
    if whole is None:
        return None
    there = nesting.identities if nesting is not None else {}
    form = _KeptForm(
        sought_by=sorted({name for one in principals for name in one.sought_by}),
        column=_packed(numbers.get(name, _NOTHING) for name in there),
        elsewhere={name: number for name, number in numbers.items() if name not in there},
        sources=None if nesting is None else host.facts.directories,
        names=b"" if nesting is None else nesting.names_digest,
        host_name=host.facts.host_name or host.facts.subject,
        all=msgspec.Raw(whole),
    )
    return encode(form)


def _lent(host: HostRights, table: LinkTable, classes: Iterable[tuple[int, ...]]) -> _LentForm:
    given, nesting = host.group_edges, host.population.nesting
    used = sorted({number for by_link in given.onward.values() for number, _ in by_link})
    place = {number: at for at, number in enumerate(used)}
    there = nesting.identities if nesting is not None else {}
    own = {name: _own(given, name, table) for name in given.numbers if there.get(name) is not given.accounts[name]}
    names = host.population.group_names
    return _LentForm(
        edges=[(table.number(given.edges[number].link), given.edges[number].gid) for number in used],
        onward=[
            (table.end(right), [(place[number], list(map(table.chain, rests))) for number, rests in by_link])
            for right, by_link in given.onward.items()
        ],
        classes=[tuple(place[number] for number in numbers) for numbers in classes],
        own=own,
        groups={gid: names[gid] for number in used if (gid := given.edges[number].gid) is not None and gid in names},
    )


def _own(given: GroupEdges[Identity], name: str, table: LinkTable) -> _OwnForm:
    who = given.accounts[name]
    by_group = {edge.gid: edge for number in given.numbers[name] for edge in (given.edges[number],)}
    ways = [(gid, list(map(table.chain, given.nodes.paths(who, edge)))) for gid, edge in by_group.items()]
    return _OwnForm(table.end(given.nodes.account(who)), ways)


# -- read ----------------------------------------------------------------------------------------------------------------------------


class HoldersInBrief:
    """Whether someone holds anything on a host, by what was kept: of that no more is read than says so."""

    def __init__(self, content: bytes, nesting_of: NestingOf) -> None:
        """Raise `ConclusionError` where it is not of the form, or what the host takes of directories is not known any more."""
        self.kept = kept = decode(content, _KeptForm)
        self.nesting = None if kept.sources is None else nesting_of(kept.sources, kept.host_name)
        if kept.names != (b"" if self.nesting is None else self.nesting.names_digest):
            raise ConclusionError("what it takes of directories is not known")
        self.places: Mapping[str, int] = self.nesting.places if self.nesting is not None else {}
        self.column = _unpacked(kept.column)
        if len(self.column) != len(self.places):
            raise ConclusionError("another number of accounts")

    def may_hold(self, holder: str) -> bool:
        """Return whether someone who is called so holds anything, or may."""
        names = {holder, *self.called(holder)}
        return any(sought(name) in self.kept.sought_by or self._takes(name) for name in names)

    def called(self, holder: str, *, alike: bool = True) -> Sequence[str]:
        """Return the accounts, and the groups as ``%name``, that the host takes of some directory and that a name can mean."""
        return self.nesting.meant_by(holder, alike=alike) if self.nesting is not None else ()

    def _takes(self, name: str) -> bool:
        place = self.places.get(name)
        return name in self.kept.elsewhere if place is None else self.column[place] != _NOTHING


class KeptHolders:
    """Who holds what on a host, read from what was kept; made of it when it is asked for.

    All is as on the host that was judged, whose name is `subject`.
    """

    def __init__(self, content: bytes, nesting_of: NestingOf) -> None:
        """Raise `ConclusionError` where it is not of the form, or what the host takes of directories is not known any more."""
        brief = HoldersInBrief(content, nesting_of)
        self._read = decode(bytes(brief.kept.all), _HoldersForm)
        self._links = _checked(self._read)
        self._nesting = brief.nesting
        self._numbers = _Numbers(brief, self._read.lent)

    @property
    def subject(self) -> str:
        """The host that was judged."""
        return self._read.subject

    @property
    def account_count(self) -> int:
        """How many accounts it has."""
        return self._read.account_count

    @cached_property
    def by_node(self) -> tuple[Holding, ...]:
        """The holdings worked out one by one."""
        return tuple(holding_of(one, self._links) for one in self._read.by_node)

    @cached_property
    def names(self) -> frozenset[str]:
        """Who holds anything in a way of its own, and the accounts and groups, as ``%name``, that the host takes of directories."""
        held = (str(one.principal) for one in self.by_node if is_own(one))
        nesting = self._nesting
        taken = () if nesting is None else (*nesting.places, *(f"%{name}" for name in nesting.groups))
        return frozenset((*held, *taken))

    def holdings_of(self, holder: str, *, alike: bool = True) -> tuple[Holding, ...]:
        """Return those of all holdings whose holder is meant by a name; `alike` unless the host itself has someone of that name."""
        labels = frozenset(self.called(holder, alike=alike))
        called = {number for number, one in self._links.principals() if one.is_called(holder) or self._is_taken(one, labels)}
        named = (holding_of(one, self._links) for one in self._read.by_node if one.principal in called)
        own = self._read.lent.own
        taken = (name for name in labels - {holder} if name not in own or self._is_taken(self._own[name].node, labels))
        return tuple(sorted((*named, *(held for name in (holder, *taken) for held in self._given_to(name))), key=order_of))

    def _is_taken(self, one: Principal, labels: Container[str]) -> bool:
        """Return whether someone is of a directory and has one of some names here."""
        return one.subject != self.subject and str(one) in labels

    def _given_to(self, account: str) -> Iterator[Holding]:
        """Yield what groups give to an account, of which no more is made than it holds."""
        taken = frozenset(self._numbers.get(account, ()))
        if taken:
            ways = ((right, [way for way in by_link if way[0] in taken]) for right, by_link in self._read.lent.onward)
            yield from self._by_groups([(right, some) for right, some in ways if some]).held_by(account)

    def comments(self) -> Mapping[str, str]:
        """Return the accounts that the host takes of some directory, each with its comment."""
        return self._nesting.comments if self._nesting is not None else {}

    def called(self, holder: str, *, alike: bool = True) -> Sequence[str]:
        """Return the accounts, and the groups as ``%name``, that the host takes of some directory and that a name can mean."""
        return self._nesting.meant_by(holder, alike=alike) if self._nesting is not None else ()

    def taken_from(self, directory: str, name: str) -> Sequence[str]:
        """Return the accounts that come from a directory and can be meant by a name."""
        return self._nesting.taken_from(directory, name) if self._nesting is not None else ()

    def in_brief(self, principal: Principal) -> AccountInBrief | None:
        """Return what a list of holders shows of the account behind a holder, if it is one."""
        if principal.kind is not PrincipalKind.ACCOUNT:
            return None
        known = self._read.accounts.get(principal.name)
        if known is not None:
            return known.brief
        who = self._there.get(principal.name)
        return None if who is None else who.in_brief

    def with_groups(self, account: str) -> AccountWithGroups | None:
        """Return what stands over the routes of an account that holds something, ``None`` of others: of those no more is kept."""
        known = self._read.accounts.get(account)
        if known is not None or account not in self._numbers:
            return known
        return self._there[account].with_groups  # just as the directory has it, or it would be among the accounts

    def member_count(self, group: str) -> int | None:
        """Return how many accounts are in a group that holds something; ``None`` of any other."""
        return self._read.members.get(group)

    @property
    def _there(self) -> Mapping[str, Identity]:
        return self._nesting.singly if self._nesting is not None else {}

    @cached_property
    def group_edges(self) -> "GroupEdges[Identity | _Own]":
        """What groups give to accounts that hold nothing else."""
        return self._by_groups(self._read.lent.onward)

    def _by_groups(self, onward: _Onward) -> "GroupEdges[Identity | _Own]":
        lent, links = self._read.lent, self._links
        return GroupEdges(
            _OwnNodes(Nodes(self.subject, lent.groups, self._nesting)),
            [_Edge(links, link, gid) for link, gid in lent.edges],  # type: ignore[misc]
            ChainMap(self._own, self._there),  # type: ignore[arg-type]
            {links.right(right): [(number, _Chains(links, chains)) for number, chains in by_link] for right, by_link in onward},
            self._numbers,
        )

    @cached_property
    def _own(self) -> "dict[str, _Own]":
        links = self._links
        return {name: _Own(name, links.principal(one.node), dict(one.ways), links) for name, one in self._read.lent.own.items()}


class _Edge(NamedTuple):
    """A link that a group gives, made when it is asked for."""

    links: LinkList
    number: int
    gid: int | None

    @property
    def link(self) -> Link:
        return self.links[self.number]


class _Chains(Sequence[LinkPath]):
    """Chains of links, made when they are asked for."""

    __slots__ = ("_chains", "_links")

    def __init__(self, links: LinkList, chains: Sequence[Chain]) -> None:
        self._links, self._chains = links, chains

    def __len__(self) -> int:
        return len(self._chains)

    def __getitem__(self, place: int) -> LinkPath:  # type: ignore[override]
        return self._links.chain(self._chains[place])


class _Own(NamedTuple):
    """An account that is not just as a directory has it, with the chains by which it is in groups."""

    name: str
    node: Principal
    ways: Mapping[int | None, Sequence[Chain]]
    links: LinkList


class _OwnNodes:
    """Accounts and memberships as nodes and links: of a directory by what it says, of others as they were kept."""

    def __init__(self, nodes: Nodes) -> None:
        self._nodes = nodes

    def account(self, who: "Identity | _Own", /) -> Principal:
        return who.node if isinstance(who, _Own) else self._nodes.account(who)

    def paths(self, who: "Identity | _Own", edge: "GroupEdge[Identity | _Own]", /) -> tuple[LinkPath, ...]:
        if isinstance(who, _Own):
            return tuple(_Chains(who.links, who.ways.get(edge.gid, ())))
        return self._nodes.paths(who, edge)  # type: ignore[arg-type]


class _Numbers(Mapping[str, tuple[int, ...]]):
    """The links that each account takes, by its name: of one, or of all once they are asked for."""

    def __init__(self, brief: HoldersInBrief, lent: _LentForm) -> None:
        """Raise `ConclusionError` where an account is of a class that is not there."""
        self._places, self._column, self._elsewhere, self._classes = brief.places, brief.column, brief.kept.elsewhere, lent.classes
        if not all_below(len(self._classes) + 1, self._column, self._elsewhere.values()):
            raise ConclusionError("accounts of a class that is not there")
        if not self._elsewhere.keys() <= lent.own.keys() - self._places.keys():
            raise ConclusionError("accounts that are not there")

    def __getitem__(self, name: str) -> tuple[int, ...]:
        place = self._places.get(name)
        number = self._elsewhere.get(name, _NOTHING) if place is None else self._column[place]
        if number == _NOTHING:
            raise KeyError(name)
        return self._classes[number - 1]

    @cached_property
    def _all(self) -> dict[str, tuple[int, ...]]:
        numbered = chain(zip(self._places, self._column, strict=True), self._elsewhere.items())
        return {name: self._classes[number - 1] for name, number in numbered if number != _NOTHING}

    def __iter__(self) -> Iterator[str]:
        return iter(self._all)

    def __len__(self) -> int:
        return len(self._all)

    def values(self) -> ValuesView[tuple[int, ...]]:
        return self._all.values()

    def items(self) -> ItemsView[str, tuple[int, ...]]:
        return self._all.items()


def _packed(numbers: Iterable[int]) -> bytes:
    column = array("I", numbers)
    if sys.byteorder == "big":
        column.byteswap()
    return column.tobytes()


def _unpacked(content: bytes) -> "array[int]":
    """Return numbers of four bytes each, the lowest first; raises `ConclusionError`."""
    column = array("I")
    try:
        column.frombytes(content)
    except ValueError as error:
        raise ConclusionError("half a number") from error
    if sys.byteorder == "big":
        column.byteswap()
    return column


def _checked(read: _HoldersForm) -> LinkList:
    """Return the links of what was read; raises `ConclusionError` where it names links, ends or edges that are not there."""
    lent, links = read.lent, LinkList(read.links)
    chains = (
        *(route.links for held in read.by_node for route in held.routes),
        *(one for _, by_link in lent.onward for _, some in by_link for one in some),
        *(one for own in lent.own.values() for _, some in own.ways for one in some),
    )
    reaching = [number for _, by_link in lent.onward for number, _ in by_link]
    principals = [*(held.principal for held in read.by_node), *(own.node for own in lent.own.values())]
    rights = [*(held.right for held in read.by_node), *(right for right, _ in lent.onward)]
    if (
        not all_below(len(links), [link for link, _ in lent.edges], *chains)
        or not all_below(len(lent.edges), reaching, *lent.classes)
        or not links.has_ends(principals, rights)
    ):
        raise ConclusionError("it names what is not there")
    return links
