"""Which account a connection to a database server gets, and by which line it is accepted."""

from collections.abc import Sequence
from ipaddress import IPv4Address, IPv6Address, ip_address
from typing import Any

from msgspec import Struct

from fidelitas.facts import DatabaseAccount, Place
from fidelitas.rights import DatabaseRights, MariadbRights, SubjectRights
from fidelitas.rights.postgresql.login_paths import first_rule, hindrance

__all__ = ["Admission", "admission"]


class Admission(Struct, frozen=True, kw_only=True):
    """What becomes of a connection: the `account` that it gets, ``None`` where it is refused; `method` says what it must prove.

    `why` is the reason in a clause, `place` the line that decides; `others` are accounts of the same user that it does not get.
    """

    account: str | None
    method: str | None
    why: str
    place: Place | None
    others: tuple[str, ...] = ()


def admission(server: SubjectRights, user: str, address: str, database: str | None, *, tls: bool) -> Admission | None:
    """Return what becomes of a connection of a user from an address, "socket" for the server's own; ``None`` for no database server."""
    if isinstance(server, MariadbRights):
        return _mariadb(server, user, address, tls=tls and server.facts.tls and address != "socket")
    if isinstance(server, DatabaseRights):
        return _postgresql(server, user, _address(address), database or _database(server, user), tls=tls and server.facts.ssl)
    return None


def _database(server: DatabaseRights, user: str) -> str:
    """Return the database that is meant where none is stated: that of the user's name, else the one that every server has."""
    return user if user in server.facts.databases else "postgres"


def _address(text: str) -> IPv4Address | IPv6Address | None:
    return None if text == "socket" else ip_address(text)


def _mariadb(server: MariadbRights, user: str, address: str, *, tls: bool) -> Admission:
    at = "localhost" if address == "socket" else address
    found = server.account_of(user, at)
    if found is None:
        return Admission(account=None, method=None, why=f"no account of {user} is for {at}", place=None)
    others = tuple(name for name in server.accounts_called(user) if name != found.name)
    ways = [(plugin, kind) for plugin, kind in found.logins if _opens(plugin, kind, by_socket=address == "socket")]
    why = _refused(found, ways, tls=tls)
    if why:
        return Admission(account=None, method=None, why=f"it would get {found.name}, {why}", place=found.place, others=others)
    method = " or ".join(dict.fromkeys(plugin + (f" ({kind} password)" if kind != "none" else "") for plugin, kind in ways))
    method += f", and a certificate {found.certificate}" if found.certificate else ""
    why = "of the accounts that fit, its host is the most specific"
    why += "; its password has expired: it may do nothing but set another" if found.expired else ""
    return Admission(account=found.name, method=method, why=why, place=found.place, others=others)


# Ways to log in by which the socket says who is asking.
_BY_SOCKET = ("unix_socket", "auth_socket")


def _opens(plugin: str, kind: str, *, by_socket: bool) -> bool:
    """Return whether a way to log in can let anyone in; a text that is no hash of the usual form never does."""
    if plugin in _BY_SOCKET:
        return by_socket
    return not (kind == "none" and plugin in ("mysql_native_password", "mysql_old_password", ""))


def _refused(account: DatabaseAccount, ways: Sequence[object], *, tls: bool) -> str:
    """Return why a connection that would get an account is refused, as a clause; "" where it is not."""
    if account.locked:
        return "which is locked"
    if account.tls and not tls:
        return "which requires TLS, and the connection has none"
    if not ways:
        return "which no connection of this kind can log in to: it takes the socket alone, or has no valid password"
    return ""


def _postgresql(server: DatabaseRights, user: str, address: Any, database: str, *, tls: bool) -> Admission:
    role = server.privileges.roles.get(user)
    if role is None:
        return Admission(account=None, method=None, why=f"there is no role {user}", place=None)
    if server.facts.access is None:
        return Admission(account=None, method=None, why="the rules of access (pg_hba.conf) are not in evidence", place=None)
    rule = first_rule(server.facts, server.privileges, user, address, database, tls=tls)
    if rule is None:
        return Admission(account=None, method=None, why="no rule of access is for it", place=None)
    if database not in server.facts.databases:
        return Admission(account=None, method=None, why=f"there is no database {database}", place=rule.place)
    why = hindrance(server.facts, server.privileges, role, rule, database)
    if why:
        return Admission(account=None, method=None, why=why, place=rule.place)
    return Admission(account=user, method=rule.method, why="the first rule of access that fits decides", place=rule.place)
