"""Into a host by way of its directory: who may change the accounts and groups there that lead to root here.

What may be done to an account or group is the directory's to say; which of them matter is the host's.
"""

from collections.abc import Callable, Iterable, Iterator, Sequence

from fidelitas.rights.graph.group_edges import GroupEdge
from fidelitas.rights.graph.links import Link, Principal, PrincipalKind
from fidelitas.rights.graph.paths import LinkPath
from fidelitas.rights.linux.nodes import Nodes
from fidelitas.rights.linux.population import Identity, Population

__all__ = ["links_by_directory"]

# Of a larger group those members are followed whom someone may change who may change none of the others: one route for each is enough.
_MOST_MEMBERS = 500

Found = LinkPath | GroupEdge[Identity]


def links_by_directory(population: Population, nodes: Nodes, found: Sequence[Found]) -> Iterator[Found]:
    """Yield the links from those who may change accounts and groups of the directory by which one becomes root here, and so on."""
    nesting = population.nesting
    if nesting is None or nesting.over is None:
        return
    waiting = [one for one in _leading(nodes, found) if isinstance(one, Principal)]
    met = set(waiting)
    while waiting:
        one = waiting.pop()
        links = nesting.over(one.kind, one.name)
        for link in links:
            yield from _with_members(link, population)
        if links and one.kind is PrincipalKind.GROUP:
            yield from ((outer,) for outer in nesting.outer_links(one.name))
        for other in (*(link.source for link in links), *_members(one, population)):
            if other not in met:
                met.add(other)
                waiting.append(other)


def _leading(nodes: Nodes, found: Iterable[Found]) -> list[object]:
    """Return the principals that come to root by some links, the surest order of no matter."""
    into: dict[object, list[Principal]] = {}
    for one in found:
        for link in (one.link,) if isinstance(one, GroupEdge) else one:
            into.setdefault(link.target, []).append(link.source)
    reached: dict[object, None] = {nodes.root: None}
    waiting: list[object] = [nodes.root]
    while waiting:
        for source in into.get(waiting.pop(), ()):
            if source not in reached:
                reached[source] = None
                waiting.append(source)
    return list(reached)


def _members(one: Principal, population: Population) -> Iterator[Principal]:
    """Yield the accounts and groups of the directory that are in a group."""
    nesting = population.nesting
    if nesting is None or one.kind is not PrincipalKind.GROUP or one.name not in nesting.groups:
        return
    members = nesting.accounts_in(nesting.groups[one.name].gid)
    nodes = (nesting.node(PrincipalKind.ACCOUNT, who.name) for who in members)
    yield from nodes if len(members) <= _MOST_MEMBERS else _telling(nodes, nesting.over)
    yield from (nesting.node(PrincipalKind.GROUP, name) for name in nesting.groups_within(one.name))


def _telling(nodes: Iterable[Principal], over: Callable[[PrincipalKind, str], Sequence[Link]] | None) -> Iterator[Principal]:
    """Yield the accounts of some that someone may change who may change none before."""
    met: set[Principal] = set()
    for one in nodes:
        sources = {link.source for link in over(one.kind, one.name)} if over is not None else set()
        if not sources <= met:
            met |= sources
            yield one


def _with_members(link: Link, population: Population) -> Iterator[Found]:
    """Yield a link, and where it is a group's the way of each account in that."""
    yield (link,)
    nesting = population.nesting
    if nesting is not None and link.source.kind is PrincipalKind.GROUP and link.source.name in nesting.groups:
        gid = nesting.groups[link.source.name].gid
        yield GroupEdge(link, gid, [who for who in population.in_gid(gid) if who.uid != 0])
