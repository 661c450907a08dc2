"""Which account a connection to a database server gets, and by which line it is accepted."""

from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address, ip_address
from typing import Any

from fidelitas.facts import Place
from fidelitas.rights import DatabaseRights, MariadbRights, SubjectRights
from fidelitas.rights.postgresql.login_paths import first_rule, hindrance

__all__ = ["Admission", "admission"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Admission:
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
    method = " or ".join(dict.fromkeys(plugin + (f" ({kind} password)" if kind else "") for plugin, kind in found.logins))
    why = "of the accounts that fit, its host is the most specific"
    if found.locked:
        return Admission(account=None, method=None, why=f"it would get {found.name}, which is locked", place=found.place, others=others)
    if found.tls and not tls:
        why = f"it would get {found.name}, which requires TLS, and the connection has none"
        return Admission(account=None, method=None, why=why, place=found.place, others=others)
    why += "; its password has expired: it may do nothing but set another" if found.expired else ""
    return Admission(account=found.name, method=method, why=why, place=found.place, others=others)


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
