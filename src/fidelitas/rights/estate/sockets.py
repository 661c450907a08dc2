"""From a host into the database server that runs on it: an account of the operating system that the server lets in by its socket.

Anyone who is that account on the host, or may become it or root there, needs no password of the server's.
"""

from collections.abc import Iterable, Iterator, Sequence

from fidelitas.rights.graph.links import By, Holding, Link, LinkKind, Mechanism, Principal, PrincipalKind, RightKind, Strength
from fidelitas.rights.linux.host import HostRights
from fidelitas.rights.subject import DatabaseServer
from fidelitas.text import Place, short_host_name

__all__ = ["is_host_of", "socket_links"]


def socket_links(server: DatabaseServer, hosts: Sequence[HostRights]) -> tuple[Link, ...]:
    """Return the links that lead into a server from the host that it runs on; none where that host is not in evidence."""
    host = next((one for one in hosts if is_host_of(server.host_name, (one.subject, one.host_name))), None)
    return () if host is None else tuple(_links(server, host))


def is_host_of(name: str | None, names: Iterable[str]) -> bool:
    """Return whether a host with some names is the one that a server says it runs on; names count up to the first dot."""
    return name is not None and short_host_name(name) in {short_host_name(one) for one in names if one}


def _links(server: DatabaseServer, host: HostRights) -> Iterator[Link]:
    accounts = host.population.by_name
    logins = [(name, role, place) for name, role, place in server.socket_logins(accounts) if name in accounts]
    for name, role, place in logins:
        because = f"the server accepts the account {name} of {host.subject} over its socket"
        yield _link(host.node(name).from_elsewhere(host.subject, server.subject), role, because, place, Strength.DIRECT)
    for holding in host.own_holdings if logins else ():
        yield from _by_holding(server, host, holding, [name for name, _, _ in logins])


def _by_holding(server: DatabaseServer, host: HostRights, holding: Holding, names: Sequence[str]) -> Iterator[Link]:
    """Yield the links from each account that may act as an account with a socket log-in to that account, as holdings of the host tell."""
    if holding.principal.kind is not PrincipalKind.ACCOUNT:
        return
    right, own = holding.right, holding.principal.name
    for name in dict.fromkeys(names):
        if own == name or not (right.kind is RightKind.ROOT or (right.kind is RightKind.RUN_AS and right.detail == name)):
            continue
        because = f"may act as {name} on {host.subject}" + (
            ", as root of that host" if right.kind is RightKind.ROOT and name != "root" else ""
        )
        source, target = (one.from_elsewhere(host.subject, server.subject) for one in (holding.principal, host.node(name)))
        yield _link(source, target, because, holding.routes[0].place, holding.strength, holding.routes[0].conditions)


def _link(source: Principal, target: Principal, because: str, place: Place, strength: Strength, conditions: tuple[str, ...] = ()) -> Link:
    return Link(
        source=source,
        target=target,
        kind=LinkKind.MAY_BECOME,
        strength=strength,
        by=By(Mechanism.SOCKET if target.kind is PrincipalKind.ROLE else Mechanism.HOST),
        because=because,
        conditions=conditions,
        place=place,
    )
