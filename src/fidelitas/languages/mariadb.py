"""The grant tables of MariaDB and MySQL, as rows: the older layout, a column for each privilege, and MariaDB's JSON with a bit for each.

Follows "mysql.global_priv table" and "mysql.user table" of the MariaDB manual, and chapter 6.2.3 of the MySQL manual.
"""

import json
from collections.abc import Callable, Iterator
from typing import Any

from msgspec.structs import replace

from fidelitas.facts import AccountGrant, DatabaseAccount, DefinerObject, GrantScope, MariadbFacts, Place, ProxyGrant, RoleGrant
from fidelitas.languages.evidence import HostEvidence
from fidelitas.languages.rows import Row, RowReader, fact_of
from fidelitas.languages.rows import text_of as _text

__all__ = ["PRIVILEGES", "is_mariadb_dump", "read_mariadb"]

# The bits of the access mask, from the lowest on (privilege.h of MariaDB).
PRIVILEGES = (
    "SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "RELOAD", "SHUTDOWN", "PROCESS", "FILE", "GRANT OPTION", "REFERENCES",
    "INDEX", "ALTER", "SHOW DATABASES", "SUPER", "CREATE TEMPORARY TABLES", "LOCK TABLES", "EXECUTE", "REPLICATION SLAVE", "BINLOG MONITOR",
    "CREATE VIEW", "SHOW VIEW", "CREATE ROUTINE", "ALTER ROUTINE", "CREATE USER", "EVENT", "TRIGGER", "CREATE TABLESPACE",
    "DELETE HISTORY", "SET USER", "FEDERATED ADMIN", "CONNECTION ADMIN", "READ_ONLY ADMIN", "REPLICATION SLAVE ADMIN",
    "REPLICATION MASTER ADMIN", "BINLOG ADMIN", "BINLOG REPLAY", "SLAVE MONITOR",
)  # fmt: skip
# Columns of the older layout whose names are not those of the privileges.
_COLUMNS = {
    "grant": "GRANT OPTION",
    "create_tmp_table": "CREATE TEMPORARY TABLES",
    "repl_slave": "REPLICATION SLAVE",
    "repl_client": "BINLOG MONITOR",
    "show_db": "SHOW DATABASES",
    "delete_versioning_rows": "DELETE HISTORY",
}
_SYNONYMS = {"REPLICATION CLIENT": "BINLOG MONITOR", "DELETE VERSIONING ROWS": "DELETE HISTORY"}


def is_mariadb_dump(content: bytes) -> bool:
    """Return whether a file is what the script for mariadb printed."""
    return content[:40].startswith(b"#") and b"fidelitas-mariadb " in content[:40]


def read_mariadb(evidence: HostEvidence) -> MariadbFacts:
    """Return what the grant tables of a server state."""
    return _GrantTables(evidence, "grant table", "mysql.").facts()


class _GrantTables(RowReader):
    def facts(self) -> MariadbFacts:
        server = next((row for row, _ in self.rows("server")), {})
        accounts = [account for row, place in self.rows("global_priv") for account in self.one(_from_json, row, place)]
        if not accounts:
            accounts = [account for row, place in self.rows("user") for account in self.one(_from_columns, row, place)]
            accounts = self._of_mysql(accounts)
        self._hidden_definers(accounts, str(server.get("taken_by", "")))
        return MariadbFacts(
            subject=self.evidence.subject,
            taken=self.evidence.taken,
            version=str(server.get("version", "")),
            taken_by=str(server.get("taken_by", "")),
            host_name=str(server.get("host_name") or "") or None,
            resolves_names=not server.get("skip_name_resolve"),
            tls=server.get("have_ssl") == "YES",
            accounts=tuple(accounts),
            grants=tuple(self._grants()),
            roles=self.all("roles_mapping", _role),
            proxies=self.all("proxies_priv", _proxy),
            definers=self.all("definers", _definer),
            objects=self._objects(),
            in_force=self._in_force(),
            objects_in_force=self._objects_in_force(),
            databases=tuple(str(row.get("name", "")) for row, _ in self.rows("databases")),
            sessions=tuple((str(row.get("user", "")), str(row.get("host", ""))) for row, _ in self.rows("sessions")),
            gaps=self.gaps,
        )

    def _hidden_definers(self, accounts: list[DatabaseAccount], taken_by: str) -> None:
        """Note that views, triggers and events are not all shown to an account without the privileges on them (information_schema)."""
        asked = next((one for one in accounts if one.name == taken_by), None)
        lacking = (
            sorted({"SHOW VIEW", "TRIGGER", "EVENT"} - asked.privileges) if asked is not None and "SUPER" not in asked.privileges else []
        )
        if lacking:
            why = f"{taken_by} lacks {', '.join(lacking)}: not every view, trigger and event was listed"
            weakens = "what acts as its definer (databases.definer-object)"
            self.missing(why, weakens, Place(self.evidence.subject, "listing definers"), what="definers")

    def _of_mysql(self, accounts: list[DatabaseAccount]) -> list[DatabaseAccount]:
        """Return accounts with what MySQL keeps in tables of its own: dynamic privileges, and several default roles."""
        dynamic: dict[tuple[str, str], set[str]] = {}
        for row, place in self.rows("global_grants"):
            for key, privilege in self.one(lambda row, _: ((_text(row, "USER"), _text(row, "HOST")), _text(row, "PRIV")), row, place):
                dynamic.setdefault(key, set()).add(privilege.replace("_", " "))
        roles: dict[tuple[str, str], set[str]] = {}
        for row, place in self.rows("default_roles"):
            for key, role in self.one(_default_role, row, place):
                roles.setdefault(key, set()).add(role)
        return [
            replace(
                account,
                privileges=account.privileges | dynamic.get((account.user, account.host), set()),
                default_roles=account.default_roles | roles.get((account.user, account.host), set()),
            )
            for account in accounts
        ]

    def _grants(self) -> Iterator[AccountGrant]:
        for listing in ("db", "tables_priv", "columns_priv", "procs_priv"):
            for row, place in self.rows(listing):
                yield from self.one(_GRANTS[listing], row, place)

    def _objects_in_force(self) -> dict[tuple[str, str, str], frozenset[str]] | None:
        if "object_privileges" not in self.evidence.listings:
            return None
        found: dict[tuple[str, str, str], set[str]] = {}
        for row, _ in self.rows("object_privileges"):
            key = (_unquoted(str(row.get("grantee", ""))), str(row.get("database", "")), str(row.get("name", "")))
            found.setdefault(key, set()).add(str(row.get("privilege", "")))
        return {key: frozenset(privileges) for key, privileges in found.items()}

    def _objects(self) -> frozenset[tuple[str, str, str]] | None:
        if "objects" not in self.evidence.listings:
            return None
        return frozenset(
            (str(row.get("kind", "")), str(row.get("database", "")), str(row.get("name", ""))) for row, _ in self.rows("objects")
        )

    def _in_force(self) -> dict[str, frozenset[str]] | None:
        if "user_privileges" not in self.evidence.listings:
            return None
        found: dict[str, set[str]] = {}
        for row, _ in self.rows("user_privileges"):
            known = found.setdefault(_unquoted(str(row.get("grantee", ""))), set())
            known.add(_SYNONYMS.get(str(row.get("privilege", "")), str(row.get("privilege", ""))))
            if row.get("grantable") == "YES":
                known.add("GRANT OPTION")
        return {name: frozenset(privileges - {"USAGE"}) for name, privileges in found.items()}


def _from_json(row: Row, place: Place) -> DatabaseAccount:
    stated = json.loads(_text(row, "Priv"))
    access = int(stated.get("access", 0))
    alternatives = stated.get("auth_or") or [{}]
    first = (str(stated.get("plugin", "")), str(stated.get("password", "none")))
    logins = tuple(first if not one else (str(one.get("plugin", "")), str(one.get("password", "none"))) for one in alternatives)
    return DatabaseAccount(
        user=_text(row, "User"),
        host=_text(row, "Host"),
        role=bool(stated.get("is_role")),
        privileges=frozenset(name for bit, name in enumerate(PRIVILEGES) if access >> bit & 1),
        logins=() if stated.get("is_role") else logins,
        locked=bool(stated.get("account_locked")),
        expired=stated.get("password_last_changed") == 0,
        tls=bool(stated.get("ssl_type")),
        certificate=_certificate(_TLS_KINDS.get(stated.get("ssl_type"), ""), stated.get("x509_subject"), stated.get("x509_issuer")),
        default_roles=_one_role(stated.get("default_role")),
        place=place,
    )


def _from_columns(row: Row, place: Place) -> DatabaseAccount:
    """A row of mysql.user: ``Select_priv`` and its kin are Y or N."""
    role = row.get("is_role") == "Y"
    return DatabaseAccount(
        user=_text(row, "User"),
        host=_text(row, "Host"),
        role=role,
        privileges=_columns(row),
        logins=() if role else ((str(row.get("plugin") or "mysql_native_password"), str(row.get("password", "none"))),),
        locked=row.get("account_locked") == "Y",
        expired=row.get("password_expired") == "Y",
        tls=bool(row.get("ssl_type")),
        certificate=_certificate(str(row.get("ssl_type") or ""), row.get("x509_subject"), row.get("x509_issuer")),
        default_roles=_one_role(row.get("default_role")),
        place=place,
    )


# enum SSL_type of the server: what the numbers in mysql.global_priv mean.
_TLS_KINDS = {1: "ANY", 2: "X509", 3: "SPECIFIED"}


def _certificate(kind: str, subject: object, issuer: object) -> str:
    """Return what a client certificate must be; SPECIFIED may ask for a cipher alone, which is none."""
    parts = [f"of the {what} {wanted}" for what, wanted in (("subject", subject), ("issuer", issuer)) if wanted]
    if kind == "SPECIFIED":
        return " and ".join(parts)
    return "of any client" if kind == "X509" else ""


def _one_role(stated: object) -> frozenset[str]:
    return frozenset({str(stated)}) if stated else frozenset()


def _default_role(row: Row, _: Place) -> tuple[tuple[str, str], str]:
    return (_text(row, "USER"), _text(row, "HOST")), f"{_text(row, 'DEFAULT_ROLE_USER')}@{_text(row, 'DEFAULT_ROLE_HOST')}"


def _columns(row: Row) -> frozenset[str]:
    names = (name[:-5].lower() for name, value in row.items() if name.lower().endswith("_priv") and value == "Y")
    return frozenset(_COLUMNS.get(name, name.replace("_", " ").upper()) for name in names)


def _set(value: Any) -> frozenset[str]:
    """A set of MySQL, "Select,Update,Grant", as privileges."""
    words = (word.strip().upper() for word in str(value or "").split(",") if word.strip())
    return frozenset("GRANT OPTION" if word == "GRANT" else word for word in words)


def _grant_on(scope: GrantScope, privileges: str, name: str = "", column: str = "") -> Callable[[Row, Place], AccountGrant]:
    """Return what reads a row of a grant table: which columns have the privileges, the object's name and its column."""

    def read(row: Row, place: Place) -> AccountGrant:
        stated = {"name": _text(row, name) if name else "", "column": _text(row, column) if column else ""}
        granted = _set(row[privileges]) if privileges else _columns(row)
        return fact_of(AccountGrant, row, place, _ACCOUNT, scope=scope, privileges=granted, **stated)

    return read


# How the tables call what our fields are called.
_ACCOUNT = {
    "user": "User", "host": "Host", "database": "Db", "role": "Role", "proxied_user": "Proxied_user", "proxied_host": "Proxied_host",
    "object_kind": "kind",
}  # fmt: skip
_GRANTS = {
    "db": _grant_on(GrantScope.DATABASE, ""),
    "tables_priv": _grant_on(GrantScope.TABLE, "Table_priv", "Table_name"),
    "columns_priv": _grant_on(GrantScope.COLUMN, "Column_priv", "Table_name", "Column_name"),
    "procs_priv": _grant_on(GrantScope.ROUTINE, "Proc_priv", "Routine_name"),
}


def _role(row: Row, place: Place) -> RoleGrant:
    return fact_of(RoleGrant, row, place, _ACCOUNT, admin=row.get("Admin_option") == "Y")


def _proxy(row: Row, place: Place) -> ProxyGrant:
    return fact_of(ProxyGrant, row, place, _ACCOUNT)


def _definer(row: Row, place: Place) -> DefinerObject:
    return fact_of(DefinerObject, row, place, {"object_kind": "kind"})


def _unquoted(grantee: str) -> str:
    """``'user'@'host'`` as ``user@host``."""
    user, _, host = grantee.rpartition("@")
    return f"{user.strip(chr(39))}@{host.strip(chr(39))}"
