"""Which rows of the grant tables serve the sessions of an account (acl_get and table_hash_search of the server's sql_acl.cc).

They are matched with where the connection comes from, not with the host of the account.

An account for many hosts can so have other privileges from each of them: a host is tried for every pattern that plays a part.
"""

from collections.abc import Callable, Iterable, Sequence
from functools import cached_property
from ipaddress import AddressValueError, IPv4Address
from typing import NamedTuple

from fidelitas.facts import AccountGrant, DatabaseAccount, GrantScope, MariadbFacts
from fidelitas.rights.mariadb.wildcards import instance, is_like, weight

__all__ = ["Served", "Sessions", "account_for", "host_fits"]


def host_fits(pattern: str, host: str, address: str) -> bool:
    """Return whether a host pattern takes a connection from a host name and address: ``%`` and ``_``, or ``network/netmask``."""
    network, slash, mask = pattern.partition("/")
    if slash:
        try:
            bits = int(IPv4Address(mask))
            # A mask of no bits takes nobody, as a server of version 10.11 showed.
            return bits != 0 and int(IPv4Address(address)) & bits == int(IPv4Address(network))
        except (AddressValueError, ValueError):
            return False
    return any(text and is_like(pattern or "%", text) for text in (host, address))


def account_for(accounts: Iterable[DatabaseAccount], user: str, host: str, address: str) -> DatabaseAccount | None:
    """Return the account that a connection gets: the most specific host first, of equal ones the named user before the anonymous."""
    fitting = [one for one in accounts if not one.role and one.user in (user, "") and host_fits(one.host, host, address)]
    return max(fitting, key=lambda one: (weight(one.host), one.user != "", one.host), default=None)


class Served(NamedTuple):
    """A row that decides for some sessions of an account; `where` are host patterns of these, none for all of them."""

    row: AccountGrant
    where: tuple[str, ...] = ()


class Sessions:
    """The sessions that each account of one server can have."""

    def __init__(self, facts: MariadbFacts) -> None:
        self._facts = facts

    @cached_property
    def _patterns(self) -> dict[str, set[str]]:
        """The host patterns of accounts and grants, by user."""
        found: dict[str, set[str]] = {}
        for account in self._facts.accounts:
            found.setdefault(account.user, set()).add(account.host)
        for grant in self._facts.grants:
            found.setdefault(grant.user, set()).add(grant.host)
        return found

    @cached_property
    def _known_hosts(self) -> list[str]:
        """Hosts that connections come from, as far as some are known: the server itself, and where sessions were open from."""
        return sorted({"localhost", "127.0.0.1", *(host.partition(":")[0] for _, host in self._facts.sessions if host)})

    def hosts_of(self, account: DatabaseAccount) -> list[tuple[str, str]]:
        """Return hosts from which a connection gets the account, each with the pattern that it stands for, that of the account first."""
        user = account.user or "someone-without-an-account"
        others = {*self._patterns.get(account.user, ()), *self._patterns.get("", ()), *self._known_hosts} - {account.host}
        patterns = [account.host, *sorted(others)]
        found = []
        for pattern in patterns:
            host = _instance(pattern)
            if host_fits(account.host, host, host) and account_for(self._facts.accounts, user, host, host) is account:
                found.append((pattern, host))
        return found

    def on_database(self, account: DatabaseAccount, database: str) -> list[Served]:
        """Return the rows of mysql.db that decide: of those for the user or for everyone the most specific, by host first."""
        rows = [one for one in self._rows(GrantScope.DATABASE) if one.user in (account.user, "") and is_like(one.database, database)]
        return self._decisive(account, rows, lambda one: (weight(one.host), weight(one.database), one.user != "", one.host, one.database))

    def on_object(self, account: DatabaseAccount, scope: GrantScope, database: str, name: str) -> list[Served]:
        """Return the rows on a table or routine that decide: the most specific by host."""
        rows = [one for one in self._rows(scope) if (one.user, one.database, one.name) == (account.user, database, name)]
        return self._decisive(account, rows, lambda one: (weight(one.host), one.host))

    def columns_beside(self, row: AccountGrant) -> list[AccountGrant]:
        """Return the rows on columns of the same table, user and host."""
        same = (row.user, row.host, row.database, row.name)
        return [one for one in self._rows(GrantScope.COLUMN) if (one.user, one.host, one.database, one.name) == same]

    def _rows(self, scope: GrantScope) -> Sequence[AccountGrant]:
        return self._by_scope.get(scope, [])

    @cached_property
    def _by_scope(self) -> dict[GrantScope, list[AccountGrant]]:
        found: dict[GrantScope, list[AccountGrant]] = {}
        for grant in self._facts.grants:
            found.setdefault(grant.scope, []).append(grant)
        return found

    def _decisive(self, account: DatabaseAccount, rows: Sequence[AccountGrant], order: Callable[[AccountGrant], object]) -> list[Served]:
        if account.role:  # looked up as coming from nowhere: its own rows first, then those for any user from everywhere
            fitting = [one for one in rows if is_like(one.host, "")]
            best = max(fitting, key=lambda one: (one.user != "", order(one)), default=None)
            return [Served(best)] if best is not None else []
        hosts = self.hosts_of(account) if rows else []
        decided = [
            (pattern, max((one for one in rows if host_fits(one.host, host, host)), key=order, default=None))  # type: ignore[arg-type]
            for pattern, host in hosts
        ]
        chosen = list(dict.fromkeys(row for _, row in decided if row is not None))
        if len(chosen) == 1 and all(row is not None for _, row in decided):
            return [Served(chosen[0])]
        return [Served(row, tuple(pattern for pattern, other in decided if other is row)) for row in chosen]


def _instance(pattern: str) -> str:
    network, slash, _ = pattern.partition("/")
    if slash:
        return network if not network.endswith(".0") else network[:-1] + "7"
    return instance(pattern or "%")
