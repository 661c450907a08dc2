"""Who may do what with one database of MariaDB or MySQL, or with a table or routine of it: privileges add up from the server downwards.

Of the grants on databases whose names fit, the server takes one for an account: the most specific (MariaDB manual, "GRANT", wildcards).
"""

from collections.abc import Iterator

from fidelitas.facts import AccountGrant, GrantScope, MariadbFacts
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, RightKind
from fidelitas.rights.mariadb.wildcards import like, weight
from fidelitas.rights.subject import DatabaseServer
from fidelitas.text import Place

__all__ = ["on_object"]

# Privileges on a table, and what is granted on a database or on everything besides; others are about the whole server.
_OF_TABLES = (
    "SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "REFERENCES", "INDEX", "ALTER", "CREATE VIEW", "SHOW VIEW", "TRIGGER",
    "DELETE HISTORY", "GRANT OPTION",
)  # fmt: skip
_OF_DATABASES = ("CREATE TEMPORARY TABLES", "LOCK TABLES", "EXECUTE", "CREATE ROUTINE", "ALTER ROUTINE", "EVENT")


def on_object(facts: MariadbFacts, server: DatabaseServer, database: str, name: str) -> Iterator[Link]:
    """Yield the links from accounts and roles to each privilege that they have on an object, wherever it was granted."""
    wanted = _OF_TABLES if name else (*_OF_TABLES, *_OF_DATABASES)
    what = f"{database}/{name or database}"

    def link(holder: str, privilege: str, kind: str, because: str, place: Place) -> Link:
        right = server.right(RightKind.DB_OBJECT, privilege.lower().replace(" ", "-"), what)
        return server.link(holder, right, LinkKind.HAS, By(Mechanism.GRANT, kind), because, place)

    for account in facts.accounts:
        for privilege in wanted:
            if privilege in account.privileges and not account.locked:
                yield link(account.name, privilege, "global", f"has {privilege} on every database", account.place)
    for grant in _decisive(facts, database):
        for privilege in sorted(grant.privileges & {*wanted}):
            yield link(_holder(grant), privilege, "database", f"is granted {privilege} on database {grant.database}", grant.place)
    for grant in facts.grants if name else ():
        if grant.scope is not GrantScope.DATABASE and grant.database == database and grant.name == name:
            column = f"({grant.column})" if grant.column else ""
            for privilege in sorted(grant.privileges):
                because = (
                    f"is granted {privilege}{column} on {'table' if grant.scope is GrantScope.COLUMN else grant.scope} {database}.{name}"
                )
                yield link(_holder(grant), f"{privilege}{column}", grant.scope, because, grant.place)


def _holder(grant: AccountGrant) -> str:
    return f"{grant.user}@{grant.host}" if grant.host else grant.user


def _decisive(facts: MariadbFacts, database: str) -> list[AccountGrant]:
    """Return, for each holder, the grant on databases that the server takes."""
    found: dict[str, AccountGrant] = {}
    for grant in facts.grants:
        if grant.scope is GrantScope.DATABASE and like(grant.database).fullmatch(database):
            before = found.get(_holder(grant))
            if before is None or weight(grant.database) > weight(before.database):
                found[_holder(grant)] = grant
    return list(found.values())
