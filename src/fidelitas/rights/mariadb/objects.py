"""Who may do what with one database of MariaDB or MySQL, or with a table or routine of it: privileges add up from the server downwards."""

from collections.abc import Iterator

from fidelitas.facts import AccountGrant, DatabaseAccount, GrantScope, MariadbFacts
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, RightKind
from fidelitas.rights.mariadb.sessions import Served, Sessions
from fidelitas.rights.subject import DatabaseServer
from fidelitas.text import Place

__all__ = ["object_kinds", "on_object"]

# The privileges that there are on each kind of object (MariaDB manual, "GRANT").
_TABLE = (
    "SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "REFERENCES", "INDEX", "ALTER", "CREATE VIEW", "SHOW VIEW", "TRIGGER",
    "DELETE HISTORY", "GRANT OPTION",
)  # fmt: skip
_ROUTINE = ("EXECUTE", "ALTER ROUTINE", "GRANT OPTION")
_OF_KIND = {
    "database": (*_TABLE, "CREATE TEMPORARY TABLES", "LOCK TABLES", "EXECUTE", "CREATE ROUTINE", "ALTER ROUTINE", "EVENT"),
    "table": _TABLE,
    "routine": _ROUTINE,
}


def object_kinds(facts: MariadbFacts, database: str, name: str) -> list[str]:
    """Return what a name in a database is: a database without a name, else a table, a routine or both; nothing where it is none."""
    if not name:
        return ["database"]
    if facts.objects is not None:
        return [kind for kind in ("table", "routine") if (kind, database, name) in facts.objects]
    routines = {one.name for one in facts.grants if one.database == database and one.scope is GrantScope.ROUTINE}
    return ["routine"] if name in routines else ["table"]


def on_object(facts: MariadbFacts, server: DatabaseServer, sessions: Sessions, database: str, name: str) -> Iterator[Link]:
    """Yield the links from accounts and roles to each privilege that they have on an object, wherever it was granted."""
    kinds = object_kinds(facts, database, name)
    wanted = tuple(dict.fromkeys(one for kind in kinds for one in _OF_KIND[kind]))
    found = _Object(server, sessions, database, name, wanted)
    for account in facts.accounts:
        if not account.locked:
            yield from found.of_account(account, kinds)


class _Object:
    def __init__(self, server: DatabaseServer, sessions: Sessions, database: str, name: str, wanted: tuple[str, ...]) -> None:
        self._server, self._sessions, self._database, self._name, self._wanted = server, sessions, database, name, wanted
        self._on = f"{database}/{name}" if name else database

    def of_account(self, account: DatabaseAccount, kinds: list[str]) -> Iterator[Link]:
        for privilege in self._wanted:
            if privilege in account.privileges:
                yield self._link(account, privilege, "global", f"has {privilege} on every database", account.place, ())
        for served in self._sessions.on_database(account, self._database):
            yield from self._served(account, served, f"database {served.row.database}")
        for kind in kinds:
            if kind != "database":
                yield from self._of_object(account, GrantScope.TABLE if kind == "table" else GrantScope.ROUTINE)

    def _of_object(self, account: DatabaseAccount, scope: GrantScope) -> Iterator[Link]:
        for served in self._sessions.on_object(account, scope, self._database, self._name):
            yield from self._served(account, served, f"{scope} {self._database}.{self._name}")
            yield from self._columns(account, served)  # the row that decides for the table decides for its columns

    def _served(self, account: DatabaseAccount, served: Served, what: str) -> Iterator[Link]:
        for privilege in (one for one in self._wanted if one in served.row.privileges):
            because = f"is granted {privilege} on {what}{_by_row(account, served.row)}"
            yield self._link(account, privilege, served.row.scope, because, served.row.place, served.where)

    def _columns(self, account: DatabaseAccount, served: Served) -> Iterator[Link]:
        """Yield the privileges on columns: those of the rows of the same user and host."""
        for row in self._sessions.columns_beside(served.row):
            for privilege in sorted(row.privileges):
                because = f"is granted {privilege}({row.column}) on table {self._database}.{self._name}{_by_row(account, row)}"
                yield self._link(account, f"{privilege}({row.column})", row.scope, because, row.place, served.where)

    def _link(self, account: DatabaseAccount, privilege: str, scope: str, because: str, place: Place, where: tuple[str, ...]) -> Link:
        words, column, rest = privilege.partition("(")
        right = self._server.right(RightKind.DB_OBJECT, words.lower().replace(" ", "-") + column + rest, self._on)
        conditions = (f"for connections from {', '.join(where)}",) if where else ()
        return self._server.link(account.name, right, LinkKind.HAS, By(Mechanism.GRANT, scope), because, place, *conditions)


def _by_row(account: DatabaseAccount, row: AccountGrant) -> str:
    """Return whose row it is, where that is not the account's own."""
    return "" if (row.user, row.host) == (account.user, account.host) or account.role else f" (by the row of {row.user}@{row.host})"
