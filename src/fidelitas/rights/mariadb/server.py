"""Rights on a MariaDB or MySQL server: accounts with their roles, what their privileges reach, and which account a connection gets.

Follows the manual's "Account names", "Roles" and "GRANT".
"""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property

from fidelitas.facts import AccountGrant, DatabaseAccount, GrantScope, MariadbFacts
from fidelitas.rights.graph.links import By, Holding, Link, LinkKind, Mechanism, Principal, RightKind
from fidelitas.rights.graph.paths import Edge
from fidelitas.rights.graph.routes import holdings_by
from fidelitas.rights.graph.walks import reached
from fidelitas.rights.mariadb.objects import object_kinds, on_object
from fidelitas.rights.mariadb.sessions import Sessions, account_for, host_fits
from fidelitas.rights.mariadb.wildcards import is_like
from fidelitas.rights.subject import DatabaseServer
from fidelitas.text import Place

__all__ = ["ADMINISTRATOR", "MariadbRights", "account_for", "database_fits", "host_fits", "mariadb_rights_of"]

# An account that has all of these is an administrator, whatever it is called.
ADMINISTRATOR = frozenset({"SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "FILE", "SUPER", "CREATE USER", "GRANT OPTION"})
# Global privileges that reach far: by right, with the clause that completes "P → right because …".
_REACH = {
    "SUPER": (RightKind.DB_SUPERUSER, "may change settings, end any session, and define objects as any account (SUPER)"),
    "SET USER": (RightKind.DB_SUPERUSER, "may define objects that run as any account (SET USER)"),
    "FILE": (RightKind.DB_HOST_ESCAPE, "reads and writes files of the server's host as the account of the service (FILE)"),
    "CREATE USER": (RightKind.DB_GRANT, "makes accounts and changes their passwords (CREATE USER)"),
    "GRANT OPTION": (RightKind.DB_GRANT, "may grant its privileges to any account (GRANT OPTION)"),
    "REPLICATION SLAVE": (RightKind.DB_READ_ALL, "streams every change of every table (REPLICATION SLAVE)"),
    "BINLOG REPLAY": (RightKind.DB_WRITE_ALL, "may replay changes of any table (BINLOG REPLAY)"),
    "SET USER ID": (RightKind.DB_SUPERUSER, "may define objects that run as any account (SET_USER_ID)"),
    "SET ANY DEFINER": (RightKind.DB_SUPERUSER, "may define objects that run as any account (SET_ANY_DEFINER)"),
    "SYSTEM VARIABLES ADMIN": (RightKind.DB_SUPERUSER, "changes settings of the whole server (SYSTEM_VARIABLES_ADMIN)"),
    "ROLE ADMIN": (RightKind.DB_GRANT, "may grant any role to any account, including itself (ROLE_ADMIN)"),
    "CLONE ADMIN": (RightKind.DB_READ_ALL, "copies the whole server elsewhere (CLONE_ADMIN)"),
    "SELECT": (RightKind.DB_READ_ALL, "reads every table, the grant tables among them"),
    "UPDATE": (RightKind.DB_WRITE_ALL, "changes every table, the grant tables among them"),
    "INSERT": (RightKind.DB_WRITE_ALL, "adds to every table, the grant tables among them"),
    "DELETE": (RightKind.DB_WRITE_ALL, "deletes from every table"),
}
_GRANT_TABLES = "mysql"
_PUBLIC = "PUBLIC"


def database_fits(pattern: str, name: str) -> bool:
    """Return whether the database name of a grant takes a database."""
    return is_like(pattern, name)


class MariadbRights(DatabaseServer):
    """What the grant tables of a server amount to."""

    platform = "mariadb"

    def __init__(self, facts: MariadbFacts, from_host: tuple[Link, ...] = ()) -> None:
        super().__init__(facts.subject, facts.taken, facts.gaps, facts.host_name, from_host)
        self.facts = facts
        self.accounts = {account.name: account for account in facts.accounts}
        self._sessions = Sessions(facts)

    def joined_with(self, from_host: tuple[Link, ...]) -> "MariadbRights":
        """Return the same server with links into it from the host that it runs on."""
        joined = MariadbRights(self.facts, from_host)
        joined.troubles = self.troubles
        return joined

    @cached_property
    def holdings(self) -> tuple[Holding, ...]:
        """All holdings of accounts and roles, the furthest reaching rights first."""
        return holdings_by([Edge((link,)) for link in (*self._links(), *self.from_host)])

    def knows(self, holder: str) -> bool:
        """Return whether there is such an account, by its whole name or by the user alone."""
        here = holder in self.accounts or any(account.user == holder for account in self.facts.accounts)
        return here or self.knows_other(holder)

    def held_by(self, role: str) -> tuple[Holding, ...]:
        """Return what an account holds, or all accounts of a user."""
        return tuple(
            holding for holding in self.holdings if holding.principal.name == role or holding.principal.name.rpartition("@")[0] == role
        )

    def is_out_of_reach(self, account: DatabaseAccount) -> bool:
        """Return whether an account is for a host by its name, and the server resolves no names (``skip_name_resolve``)."""
        named = re.fullmatch(r"[A-Za-z][A-Za-z0-9.-]*", account.host) is not None and account.host != "localhost"
        return named and not self.facts.resolves_names

    def belongs_to(self, role: str) -> Iterable[str]:
        """Return the roles of an account, through others too."""
        return {one for name in self.accounts_called(role) for one in self._reached(name)} - {role}

    def account_states(self) -> Mapping[str, bool | None]:
        """Return the accounts and roles, each with whether it can log in."""
        return {account.name: not account.locked and not account.role for account in self.facts.accounts}

    def counts(self) -> Sequence[tuple[str, int]]:
        """Return how many rows were read."""
        facts = self.facts
        sizes = (facts.accounts, facts.grants, facts.roles, facts.proxies, facts.definers, facts.sessions)
        names = ("accounts and roles", "grants", "role grants", "proxy grants", "definer objects", "open sessions")
        return tuple(zip(names, map(len, sizes), strict=True))

    def privileges(self, account: str) -> frozenset[str]:
        """Return the global privileges of an account with all its roles set, those of everyone included."""
        names = (account, *self._reached(account), *([_PUBLIC] if _PUBLIC in self.accounts else []))
        return frozenset(one for name in names if name in self.accounts for one in self.accounts[name].privileges)

    def is_administrator(self, account: str) -> bool:
        """Return whether an account has, itself or by roles, every privilege that an administrator needs."""
        return self.privileges(account) >= ADMINISTRATOR

    def accounts_called(self, name: str) -> list[str]:
        """Return the accounts of a name, whole or of the user alone."""
        return [known for known, account in self.accounts.items() if name in (known, account.user)]

    @cached_property
    def _roles_of(self) -> Mapping[str, Sequence[str]]:
        """The roles that each account or role was granted itself."""
        found: dict[str, list[str]] = {}
        for grant in self.facts.roles:
            found.setdefault(f"{grant.user}@{grant.host}" if grant.host else grant.user, []).append(grant.role)
        return found

    def _reached(self, name: str) -> set[str]:
        return set(reached([name], lambda one: self._roles_of.get(one, ()))) - {name}

    def account_of(self, user: str, address: str) -> DatabaseAccount | None:
        """Return the account that a connection of a user from an address gets; an address may be a host name, and have a port."""
        host = address.rpartition(":")[0] if address.count(":") == 1 else address
        return account_for(self.facts.accounts, user, host, host)

    def socket_logins(self, known: Iterable[str] = ()) -> Iterator[tuple[str, Principal, Place]]:
        """Yield the accounts that the account of the host of the same name gets by the socket."""
        del known
        for account in self.facts.accounts:
            if account.locked or not any("socket" in plugin for plugin, _ in account.logins):
                continue
            # A connection by the socket comes from "localhost": an account for another host is never the one that it gets.
            if account_for(self.facts.accounts, account.user, "localhost", "localhost") is account:
                yield account.user, self.role(account.name), account.place

    def on(self, path: str) -> Sequence[Holding]:
        """Return who may do what with a database, or with a table or routine of it."""
        database, _, name = path.partition("/")
        if database not in self.facts.databases or not object_kinds(self.facts, database, name):
            return ()
        links = [*self._links(), *self.from_host, *on_object(self.facts, self, self._sessions, database, name)]
        found = [holding for holding in holdings_by([Edge((link,)) for link in links]) if holding.right.kind is RightKind.DB_OBJECT]
        return [holding for holding in found if not self.by_host_alone(holding)]

    # -- links -------------------------------------------------------------------------------------------------------------------

    def _links(self) -> Iterator[Link]:
        for account in self.facts.accounts:
            if not account.locked:
                yield from self._global(account)
        for grant in self.facts.roles:
            member = f"{grant.user}@{grant.host}" if grant.host else grant.user
            default = member in self.accounts and grant.role in self.accounts[member].default_roles
            kind = LinkKind.HAS if default or not grant.host else LinkKind.MAY_BECOME
            how = (
                "from the start (default role)"
                if default
                else "with the role it is granted to"
                if not grant.host
                else "on asking (SET ROLE)"
            )
            because = f"has role {grant.role} {how}" + (", and may give it on" if grant.admin else "")
            yield self.link(member, self.role(grant.role), kind, By(Mechanism.ROLE, grant.role), because, grant.place)
        for proxy in self.facts.proxies:
            yield from self._proxied(proxy.user, proxy.host, proxy.proxied_user, proxy.proxied_host, proxy.place)
        for one in self.facts.grants:
            yield from self._on_grant_tables(one)

    def _global(self, account: DatabaseAccount) -> Iterator[Link]:
        for privilege, (kind, because) in _REACH.items():
            if privilege in account.privileges:
                yield self.link(account.name, self.right(kind), LinkKind.HAS, By(Mechanism.PRIVILEGE, privilege), because, account.place)
        if account.privileges >= ADMINISTRATOR and "SUPER" not in account.privileges:
            because = "has every privilege that an administrator needs"
            yield self.link(
                account.name, self.right(RightKind.DB_SUPERUSER), LinkKind.HAS, By(Mechanism.ALL_PRIVILEGES), because, account.place
            )

    def _proxied(self, user: str, host: str, proxied: str, proxied_host: str, place: Place) -> Iterator[Link]:
        if f"{user}@{host}" not in self.accounts:  # a row that the installer left behind
            return
        targets = [one for one in self.facts.accounts if not one.role and (not proxied or (one.user, one.host) == (proxied, proxied_host))]
        for target in targets:
            if target.name != f"{user}@{host}":
                because = f"may act as {target.name} (PROXY)"
                yield self.link(
                    f"{user}@{host}", self.role(target.name), LinkKind.MAY_BECOME, By(Mechanism.PROXY, target.name), because, place
                )

    def _on_grant_tables(self, one: AccountGrant) -> Iterator[Link]:
        """Yield what changing the grant tables amounts to: they take effect when the server loads them."""
        writes = one.privileges & {"INSERT", "UPDATE"}
        if one.scope in (GrantScope.DATABASE, GrantScope.TABLE) and writes and is_like(one.database, _GRANT_TABLES):
            source = one.user if not one.host else f"{one.user}@{one.host}"
            because = f"may {' and '.join(sorted(writes)).lower()} the grant tables, and so give itself anything at the next load"
            yield self.link(
                source, self.right(RightKind.DB_SUPERUSER), LinkKind.MAY_GRANT, By(Mechanism.GRANT_TABLES), because, one.place, certain=True
            )


def mariadb_rights_of(facts: MariadbFacts) -> MariadbRights:
    """Return all rights on a server."""
    return MariadbRights(facts)
