"""From a host into the database server that runs on it: an account of the operating system that the server lets in by its socket.

Whoever is that account on the host, or may become it or root there, needs no password of the server's.
"""

from collections.abc import Iterator, Sequence

from fidelitas.rights.graph.links import Holding, Link, LinkKind, Principal, PrincipalKind, RightKind, Strength
from fidelitas.rights.linux.host import HostRights
from fidelitas.rights.server import ServerRights
from fidelitas.text import Place

__all__ = ["join_sockets"]


def join_sockets(servers: Sequence[ServerRights], hosts: Sequence[HostRights]) -> None:
    """Give each server the links that lead into it from the host that it runs on, where that host is in evidence."""
    for server in servers:
        host = next((one for one in hosts if server.host_name and _same(server.host_name, one)), None)
        if host is not None:
            server.from_host = tuple(_links(server, host))


def _same(name: str, host: HostRights) -> bool:
    return name.partition(".")[0].lower() in {one.partition(".")[0].lower() for one in (host.subject, host.host_name) if one}


def _links(server: ServerRights, host: HostRights) -> Iterator[Link]:
    logins = list(server.socket_logins())
    for name, role, place in logins:
        who = host.population.by_name.get(name)
        if who is not None:
            because = f"the server lets the account {name} of {host.subject} in by its socket"
            yield _link(server, f"{name}@{host.subject}", role, because, place, Strength.DIRECT)
    for holding in host.own_holdings if logins else ():
        yield from _by_holding(server, host, holding, [name for name, _, _ in logins])


def _by_holding(server: ServerRights, host: HostRights, holding: Holding, names: Sequence[str]) -> Iterator[Link]:
    """Yield the links from whoever may act as an account with a socket log-in to that account, as holdings of the host tell."""
    if holding.principal.kind is not PrincipalKind.ACCOUNT:
        return
    right, own = holding.right, holding.principal.name
    for name in dict.fromkeys(names):
        if own == name or not (right.kind is RightKind.ROOT or (right.kind is RightKind.RUN_AS and right.detail == name)):
            continue
        because = f"on {host.subject} it may act as {name}" + (", being root" if right.kind is RightKind.ROOT and name != "root" else "")
        target = Principal(kind=PrincipalKind.ELSEWHERE, name=f"{name}@{host.subject}", subject=server.subject)
        yield _link(
            server, f"{own}@{host.subject}", target, because, holding.routes[0].place, holding.strength, holding.routes[0].conditions
        )


def _link(
    server: ServerRights, source: str, target: Principal, because: str, place: Place, strength: Strength, conditions: tuple[str, ...] = ()
) -> Link:
    return Link(
        source=Principal(kind=PrincipalKind.ELSEWHERE, name=source, subject=server.subject),
        target=target,
        kind=LinkKind.MAY_BECOME,
        strength=strength,
        way="socket" if target.kind is PrincipalKind.ROLE else "host",
        because=because,
        conditions=conditions,
        place=place,
    )
