"""Links that belong to a group, and what they give to accounts that hold nothing but by their groups.

Thousands of accounts of a directory can be on thousands of hosts.  What one holds there by its groups follows from the links that those
groups have, so it is kept by link, and an account's holdings are made when someone asks for them.  What an account is, and how it is in
a group, is the business of the platform: `GroupNodes` answers for it.
"""

from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from functools import cached_property
from itertools import islice
from typing import Any, Generic, Protocol, TypeVar

from msgspec import Struct

from fidelitas.rights.graph.links import Holding, Link, Principal, Right
from fidelitas.rights.graph.paths import MOST_ROUTES, Edge, LinkPath, Tail, holding_by

__all__ = ["Edges", "GroupEdge", "GroupEdges", "GroupNodes", "Numbers", "Onward"]


class _Named(Protocol):
    @property
    def name(self) -> str: ...


M = TypeVar("M", bound=_Named)
T = TypeVar("T")


def _itself(value: T) -> T:  # a function with a name, since what judges in another process is carried back from there
    return value


class GroupEdge(Struct, Generic[M], frozen=True):
    """A link that a group, or with ``None`` for `gid` "any account", gives to some of its members."""

    link: Link
    gid: int | None
    members: Sequence[M]


class GroupNodes(Protocol[M]):
    """What accounts and memberships are as nodes and links."""

    def account(self, who: M, /) -> Principal:
        """Return the node of an account."""

    def paths(self, who: M, edge: GroupEdge[M], /) -> tuple[LinkPath, ...]:
        """Return the chains of memberships by which an account comes to the link of a group."""


class Edges(Struct, Generic[M], frozen=True):
    """All edges of a subject: `edges` each by itself, and `group_edges` to those accounts, `group_only`, that have nothing else."""

    nodes: GroupNodes[M]
    edges: Sequence[Edge]
    group_edges: Sequence[GroupEdge[M]]
    group_only: Sequence[M]


# By right, the links from which it can be reached, by their numbers, each with the chains that begin with it.
Onward = Mapping[Right, Sequence[tuple[int, Sequence[LinkPath]]]]
# By account, the numbers of the links that its groups give it.
Numbers = Mapping[str, tuple[int, ...]]


class GroupEdges(Generic[M]):
    """The holdings that `accounts` have by their groups alone; `onward` says where each link of `edges` leads.

    On a subject that is told from another, `here` makes rights and links of that one those of this: only of what is asked for.
    """

    def __init__(
        self,
        nodes: GroupNodes[M],
        edges: Sequence[GroupEdge[M]],
        accounts: Mapping[str, M],
        onward: Onward,
        numbers: Numbers,
        here: Callable[[Any], Any] = _itself,
        *,
        is_renamed: bool = False,
    ) -> None:
        self.nodes = nodes
        self.edges = edges
        self.accounts = accounts
        self.onward = onward
        self.numbers = numbers
        self._here, self._is_renamed = here, is_renamed
        self._rights: dict[tuple[int, ...], tuple[Right, ...]] = {}
        self._ways: dict[tuple[Right, tuple[int, ...]], Sequence[tuple[int, Sequence[LinkPath]]]] = {}
        self._chains: dict[tuple[Right, int], tuple[Tail, ...]] = {}

    @classmethod
    def of(cls, known: Edges[M], onward: Onward) -> "GroupEdges[M]":
        """Return what groups give to the accounts of a subject that hold nothing else."""
        accounts = {who.name: who for who in known.group_only}
        used = {number for by_link in onward.values() for number, _ in by_link}
        return cls(known.nodes, known.group_edges, accounts, onward, _numbers(known.group_edges, accounts, used))

    def __len__(self) -> int:
        """Return how many holdings there are."""
        return sum(len(self._rights_by(numbers)) for numbers in self.numbers.values())

    def held_by(self, name: str) -> Iterator[Holding]:
        """Yield the holdings of an account, by right."""
        numbers = self.numbers.get(name, ())
        for right in self._rights_by(numbers):
            yield self._holding(self.accounts[name], right, numbers)

    def rights(self) -> set[Right]:
        """Return the rights that an account has by a group, and not merely by being an account."""
        found = {right for numbers in self._distinct() for right in self._rights_by(numbers) if self._by_group(right, numbers)}
        return {self._here(right) for right in found}

    def holders(self, wanted: Callable[[Right], bool]) -> Iterator[str]:
        """Yield the accounts that have a wanted right by a group, and not merely by being accounts."""
        having = {
            numbers
            for numbers in self._distinct()
            if any(wanted(self._here(right)) and self._by_group(right, numbers) for right in self._rights_by(numbers))
        }
        return (name for name, numbers in self.numbers.items() if numbers in having)

    def own_holdings(self, wanted: Callable[[Right], bool]) -> Iterator[Holding]:
        """Yield the holdings whose right is wanted, account by account, but those that each has merely by being an account."""
        rights = {
            numbers: [right for right in self._rights_by(numbers) if wanted(self._here(right)) and self._by_group(right, numbers)]
            for numbers in self._distinct()
        }
        for name, numbers in self.numbers.items():
            for right in rights[numbers]:
                yield self._holding(self.accounts[name], right, numbers)

    def furthest(self, order: Callable[[Right], Any], is_own: Callable[[Holding], bool]) -> Iterator[Holding]:
        """Yield of each account that of its own holdings whose right is the first by an order."""
        rights = {
            numbers: sorted((right for right in self._rights_by(numbers) if self._by_group(right, numbers)), key=order)
            for numbers in self._distinct()
        }
        for name, numbers in self.numbers.items():
            made = (self._holding(self.accounts[name], right, numbers) for right in rights[numbers])
            yield from islice(filter(is_own, made), 1)

    def _distinct(self) -> set[tuple[int, ...]]:
        return set(self.numbers.values())

    def _by_group(self, right: Right, numbers: tuple[int, ...]) -> bool:
        return any(link in numbers and self.edges[link].gid is not None for link, _ in self.onward[right])

    def renamed(self, rename: Callable[[Any], Any]) -> "GroupEdges[M]":
        """Return the same on another subject; raises `ValueError` of one that is told from another itself."""
        if self._is_renamed:
            raise ValueError("holdings are derived from those of a subject that was judged")
        return GroupEdges(self.nodes, self.edges, self.accounts, self.onward, self.numbers, rename, is_renamed=True)

    def differing(self, other: "GroupEdges[Any]") -> Iterator[Holding]:
        """Yield the holdings that accounts have not by the same links among others, which are the same accounts at another time."""
        for name, known in self._differing(other):
            mine, numbers = self.signatures[name], self.numbers[name]
            rights = (right for right in self._rights_by(numbers) if mine[_unnamed(right)] != known.get(_unnamed(right)))
            yield from (self._holding(self.accounts[name], right, numbers) for right in rights)

    def _differing(self, other: "GroupEdges[Any]") -> Iterator[tuple[str, Mapping[Hashable, Hashable]]]:
        """Yield accounts whose holdings are not alike, each with what gives it its own there."""
        theirs = other.signatures
        for name, mine in self.signatures.items():
            known = theirs.get(name, {})
            if mine is not known and mine != known:
                yield name, known

    @cached_property
    def signatures(self) -> Mapping[str, Mapping[Hashable, Hashable]]:
        """By account and right, by which links of its groups it has that; to be compared with another time, without the subject's name."""
        links = {number: (_signature(self.edges[number].link), self.edges[number].gid) for number in self._used}
        ways = {
            right: {number: (links[number], tuple(tuple(map(_signature, rest)) for rest in rests)) for number, rests in by_link}
            for right, by_link in self.onward.items()
        }
        together = {
            numbers: {
                _unnamed(right): frozenset(ways[right][number] for number in ways[right].keys() & set(numbers))
                for right in self._rights_by(numbers)
            }
            for numbers in self._distinct()
        }
        return {name: together[numbers] for name, numbers in self.numbers.items()}

    @property
    def _used(self) -> set[int]:
        return {number for by_link in self.onward.values() for number, _ in by_link}

    def holdings(self) -> Iterator[Holding]:
        """Yield all holdings, account by account."""
        return (holding for name in self.numbers for holding in self.held_by(name))

    def _rights_by(self, numbers: tuple[int, ...]) -> tuple[Right, ...]:
        found = self._rights.get(numbers)
        if found is None:
            reached = sorted({place for number in numbers for place in self._places.get(number, ())})
            found = self._rights[numbers] = tuple(map(list(self.onward).__getitem__, reached))
        return found

    @cached_property
    def _places(self) -> Mapping[int, Sequence[int]]:
        """By link which rights it leads to, by their places among all."""
        found: dict[int, list[int]] = {}
        for place, by_link in enumerate(self.onward.values()):
            for link, _ in by_link:
                found.setdefault(link, []).append(place)
        return found

    def _holding(self, who: M, right: Right, numbers: tuple[int, ...]) -> Holding:
        ways = [
            (path, rest)
            for number, rests in self._leading(right, numbers)
            for path in map(self._here, self.nodes.paths(who, self.edges[number]))
            for rest in self._beyond(right, number, rests)
        ]
        return holding_by(self._here(self.nodes.account(who)), self._here(right), ways[: MOST_ROUTES + 1])

    def _leading(self, right: Right, numbers: tuple[int, ...]) -> Sequence[tuple[int, Sequence[LinkPath]]]:
        """Return those of some links that lead to a right, each with the chains that begin with it."""
        known = self._ways.get((right, numbers))
        if known is None:
            having = frozenset(numbers)
            known = self._ways[right, numbers] = [one for one in self.onward[right] if one[0] in having]
        return known

    def _beyond(self, right: Right, number: int, rests: Sequence[LinkPath]) -> tuple[Tail, ...]:
        """Return the chains that begin with a link and lead to a right, as they are on this subject: worked out once."""
        known = self._chains.get((right, number))
        if known is None:
            known = self._chains[right, number] = tuple(map(Tail.of, self._here(tuple(rests))))
        return known


def _signature(link: Link) -> Hashable:
    """Return what makes a link the same at another time, without the name of the subject, which may be told from another."""
    return _unnamed(link.source), _unnamed(link.target), link.by, link.kind, link.strength, link.quote, link.asks, link.conditions


def _unnamed(node: Principal | Right) -> Hashable:
    return (node.kind, node.name) if isinstance(node, Principal) else (node.kind, node.detail, node.on)


def _numbers(edges: Sequence[GroupEdge[M]], accounts: Mapping[str, M], used: set[int]) -> Numbers:
    """Return the numbers of the links that each account has, equal ones as one object: there are few, and many accounts."""
    together: dict[int, list[int]] = {}  # links that the same accounts have, by the identity of those
    for number in sorted(used):
        together.setdefault(id(edges[number].members), []).append(number)
    found: dict[str, list[int]] = {}
    for numbers in together.values():
        for who in edges[numbers[0]].members:
            if who.name in accounts:
                found.setdefault(who.name, []).extend(numbers)
    shared: dict[tuple[int, ...], tuple[int, ...]] = {}
    return {name: shared.setdefault(one := tuple(sorted(numbers)), one) for name, numbers in found.items()}
