"""What groups lend to the accounts of a directory on one host.

Thousands of accounts of a directory can be on thousands of hosts.  What one holds there by its groups follows from the links that those
groups have, so it is kept by link, and an account's holdings are made when somebody asks for them.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from fidelitas.rights.accounts.identity import Identity
from fidelitas.rights.graph.links import Holding, Right
from fidelitas.rights.graph.paths import MOST_ROUTES, LinkPath, holding_of
from fidelitas.rights.linux.nodes import GroupEdge, Nodes

__all__ = ["GroupEdges"]

# By right, the links from which it can be reached, by their numbers, each with the chains that begin with it.
Onward = Mapping[Right, Sequence[tuple[int, tuple[LinkPath, ...]]]]
# By account, the numbers of the links that it has.
Borrowed = Mapping[str, tuple[int, ...]]


class GroupEdges:
    """The holdings that `borrowers` have by their groups alone; `onward` tells where each link of `lent` leads."""

    def __init__(
        self, nodes: Nodes, edges: Sequence[GroupEdge], borrowers: Mapping[str, Identity], onward: Onward, links: Borrowed
    ) -> None:
        self._nodes = nodes
        self._edges = edges
        self._borrowers = borrowers
        self._onward = onward
        self._links = links
        self._rights: dict[tuple[int, ...], tuple[Right, ...]] = {}

    @classmethod
    def of(cls, nodes: Nodes, edges: Sequence[GroupEdge], borrowers: Sequence[Identity], onward: Onward) -> "GroupEdges":
        """Return what is lent to accounts on a host."""
        named = {who.name: who for who in borrowers}
        return cls(nodes, edges, named, onward, _borrowed(edges, named, {number for by_link in onward.values() for number, _ in by_link}))

    def __len__(self) -> int:
        """Return how many holdings there are."""
        return sum(len(self._rights_by(links)) for links in self._links.values())

    def held_by(self, name: str) -> Iterator[Holding]:
        """Yield the holdings of an account, by right."""
        links = self._links.get(name, ())
        for right in self._rights_by(links):
            yield self._holding(self._borrowers[name], right, frozenset(links))

    def renamed(self, nodes: Nodes, rename: Callable[[Any], Any]) -> "GroupEdges":
        """Return the same on another host."""
        onward = {rename(right): rename(by_link) for right, by_link in self._onward.items()}
        return GroupEdges(nodes, self._edges, self._borrowers, onward, self._links)

    def holdings(self) -> Iterator[Holding]:
        """Yield all holdings, account by account."""
        for name in self._links:
            yield from self.held_by(name)

    def _rights_by(self, links: tuple[int, ...]) -> tuple[Right, ...]:
        if links not in self._rights:
            having = frozenset(links)
            self._rights[links] = tuple(right for right, by_link in self._onward.items() if any(link in having for link, _ in by_link))
        return self._rights[links]

    def _holding(self, who: Identity, right: Right, having: frozenset[int]) -> Holding:
        by_link = ((link, rests) for link, rests in self._onward[right] if link in having)
        chains = [(*way, *rest) for link, rests in by_link for way in self._nodes.ways(who, self._edges[link]) for rest in rests]
        return holding_of(self._nodes.account(who), right, chains[: MOST_ROUTES + 1])


def _borrowed(edges: Sequence[GroupEdge], borrowers: Mapping[str, Identity], used: set[int]) -> dict[str, tuple[int, ...]]:
    """Return the numbers of the links that each account has, equal ones as one object: there are few, and many accounts."""
    links: dict[str, list[int]] = {}
    for number in sorted(used):
        for who in edges[number].members:
            if who.name in borrowers:
                links.setdefault(who.name, []).append(number)
    shared: dict[tuple[int, ...], tuple[int, ...]] = {}
    return {name: shared.setdefault(tuple(found), tuple(found)) for name, found in links.items()}
