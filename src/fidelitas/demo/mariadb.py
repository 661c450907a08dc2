"""The made-up MariaDB service of the observatory, which runs on dunlin: rows of its grant tables, and what was planted in them."""

import json
from collections.abc import Sequence
from datetime import datetime
from typing import Any

from fidelitas.demo.people import Person
from fidelitas.demo.planted import Planted
from fidelitas.evidence import make_rows_bundle

__all__ = ["CATALOGUE", "catalogue_bundle"]

CATALOGUE = "catalogue-db"
_EVERYTHING = (1 << 39) - 1
_SELECT, _INSERT, _UPDATE, _RELOAD, _PROCESS = 1 << 0, 1 << 1, 1 << 2, 1 << 6, 1 << 8
# By their bits, from the lowest on.
_NAMES = (
    "SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "RELOAD", "SHUTDOWN", "PROCESS", "FILE", "GRANT OPTION", "REFERENCES",
    "INDEX", "ALTER", "SHOW DATABASES", "SUPER", "CREATE TEMPORARY TABLES", "LOCK TABLES", "EXECUTE", "REPLICATION SLAVE", "BINLOG MONITOR",
    "CREATE VIEW", "SHOW VIEW", "CREATE ROUTINE", "ALTER ROUTINE", "CREATE USER", "EVENT", "TRIGGER", "CREATE TABLESPACE",
    "DELETE HISTORY", "SET USER", "FEDERATED ADMIN", "CONNECTION ADMIN", "READ_ONLY ADMIN", "REPLICATION SLAVE ADMIN",
    "REPLICATION MASTER ADMIN", "BINLOG ADMIN", "BINLOG REPLAY", "SLAVE MONITOR",
)  # fmt: skip


class _Tables:
    """Rows under construction."""

    def __init__(self) -> None:
        self.rows: dict[str, list[dict[str, Any]]] = {}
        self.planted: list[Planted] = []

    def add(self, listing: str, *checks: str, **row: Any) -> None:
        """Add a row; the checks that must cite it are noted."""
        self.rows.setdefault(listing, []).append(row)
        self.planted += [Planted(check, CATALOGUE, f"mysql.{listing}", len(self.rows[listing])) for check in checks]

    def account(
        self, user: str, host: str, access: int, *checks: str, kept: str = "current", in_force: int | None = None, **stated: Any
    ) -> None:
        """Add an account with its global privileges; `in_force` are those that the server gives, where they differ from the table's."""
        told = {"access": access, "plugin": "mysql_native_password", "password": kept, **stated}
        self.add("global_priv", *checks, User=user, Host=host, Priv=json.dumps(told))
        given = access if in_force is None else in_force
        for bit, name in enumerate(_NAMES):
            if given >> bit & 1:
                self.add("user_privileges", grantee=f"'{user}'@'{host}'", privilege=name, grantable="NO")
        if not given:
            self.add("user_privileges", grantee=f"'{user}'@'{host}'", privilege="USAGE", grantable="NO")

    def grant(self, user: str, host: str, database: str, *privileges: str) -> None:
        """Grant privileges on a database."""
        self.add("db", User=user, Host=host, Db=database, **{f"{name}_priv": "Y" for name in privileges})


def catalogue_bundle(people: Sequence[Person], taken: datetime) -> tuple[bytes, list[Planted]]:
    """Return the bundle of the service, and what was planted in it."""
    made = _Tables()
    scientists = [person for person in people if person.team == "scientists"]
    made.add("server", version="10.11.8-MariaDB", taken_by="root@localhost", skip_name_resolve=1, have_ssl="YES", host_name="dunlin")
    made.account("root", "localhost", _EVERYTHING, plugin="unix_socket", kept="none")
    made.account("mariadb.sys", "localhost", 0, account_locked=True, kept="none")
    made.account("loader", "%", _EVERYTHING, "databases.administrator-from-anywhere", "databases.hidden-administrator")
    made.account("", "localhost", 0, "databases.anonymous-account", kept="empty")
    made.account("auditor", "10.20.%", _PROCESS)
    made.account("exports", "10.20.%", _SELECT | _RELOAD, "databases.pending-grants", in_force=_SELECT)
    made.add("global_priv", User="curators", Host="", Priv=json.dumps({"access": 0, "is_role": True}))
    for person in scientists[:4]:
        made.account(person.name, "10.20.%", 0, default_role="curators")
        made.add("roles_mapping", User=person.name, Host="10.20.%", Role="curators", Admin_option="N")
    made.grant("curators", "", "catalogue", "Select", "Insert", "Update")
    made.grant("exports", "10.20.%", "catalogue", "Select")
    name = {"User": scientists[0].name, "Host": "10.20.%", "Db": "catalogue", "Table_name": "samples"}
    made.add("tables_priv", **name, Table_priv="Delete,Grant", Column_priv="")
    for database in ("catalogue", "mysql", "information_schema"):
        made.add("databases", name=database)
    made.add("definers", kind="view", database="catalogue", name="recent", definer="curators@10.20.%")
    made.add("sessions", user=scientists[1].name, host="10.20.3.7:51244", database="catalogue")
    listings = {name: "".join(json.dumps(row) + "\n" for row in rows).encode() for name, rows in made.rows.items()}
    return make_rows_bundle(CATALOGUE, "mariadb", taken, listings, "grant table"), made.planted
