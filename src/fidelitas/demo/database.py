"""The made-up PostgreSQL service of the observatory: the catalogue rows that the source would bring, and what was planted in them."""

import json
from collections.abc import Sequence
from datetime import datetime
from typing import Any

from fidelitas.demo.people import Person
from fidelitas.demo.planted import Planted
from fidelitas.evidence import make_rows_bundle

__all__ = ["SERVER", "database_bundle"]

SERVER = "tides-db"
_SCRAM = "scram-sha-256"
_TABLE = ("SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE", "REFERENCES", "TRIGGER")


class _Catalogue:
    """Rows under construction."""

    def __init__(self) -> None:
        self.rows: dict[str, list[dict[str, Any]]] = {}
        self.planted: list[Planted] = []

    def add(self, listing: str, check: str = "", **row: Any) -> None:
        """Add a row; a check that must cite it first is noted."""
        rows = self.rows.setdefault(listing, [])
        rows.append(row)
        if check:
            place = ("pg_hba.conf", row["line"]) if listing == "access-rules" else (listing, len(rows))
            self.planted.append(Planted(check, SERVER, *place))

    def role(self, name: str, check: str = "", kept: str = "none", **flags: Any) -> None:
        """Add a role; `kept` is how its password is."""
        no = dict.fromkeys(("superuser", "create_role", "create_database", "log_in", "replication", "bypass_row_security"), False)
        stated: dict[str, Any] = {**no, "inherit": True, "connection_limit": -1, "valid_until": None, "settings": None}
        self.add("roles", check, name=name, **{**stated, **flags})
        self.add("passwords", name=name, kind=kept)

    def member(self, role: str, member: str, check: str = "", *, admin: bool = False) -> None:
        """Put a role into another."""
        self.add("memberships", check, role=role, member=member, admin=admin, inherit=None, set=None, grantor="postgres")

    def grant(self, name: str, grantee: str, *privileges: str, kind: str = "table", owner: str = "tides_owner", check: str = "") -> None:
        """Grant privileges on an object of the database tides."""
        row = {"kind": kind, "schema": "" if kind == "schema" else "app", "name": name, "column": "", "owner": owner}
        self.add("grants tides", check, **row, grantee=grantee, privileges=dict.fromkeys(privileges, False))


def database_bundle(people: Sequence[Person], taken: datetime) -> tuple[bytes, list[Planted]]:
    """Return the bundle of the database server, and what was planted in it."""
    made = _Catalogue()
    made.add("server", version=150008, version_text="15.8", taken_by="postgres", taken=taken.isoformat(), ssl="on")
    _roles(made, people)
    _objects(made)
    _access(made)
    listings = {name: "".join(json.dumps(row) + "\n" for row in rows).encode() for name, rows in made.rows.items()}
    return make_rows_bundle(SERVER, "postgresql", taken, listings, "catalogue query"), made.planted


def _roles(made: _Catalogue, people: Sequence[Person]) -> None:
    teams: dict[str, list[Person]] = {}
    for person in people:
        teams.setdefault(person.team, []).append(person)
    made.role("postgres", superuser=True, create_role=True, create_database=True, log_in=True, replication=True, kept=_SCRAM)
    made.role("tides_owner")
    made.role("dba", check="databases.extra-superuser", superuser=True)
    made.role("scientists")
    made.role("oncall")
    for name in ("pg_read_all_data", "pg_write_all_data", "pg_read_server_files", "pg_execute_server_program"):
        made.role(name)
    for person in (*teams["administrators"][:2], *teams["scientists"][:4], teams["operators"][0]):
        made.role(person.name, log_in=True, kept=_SCRAM)
    made.role("svc_ingest", log_in=True, kept=_SCRAM)
    made.role("svc_legacy", check="databases.weak-password-hash", log_in=True, kept="md5")
    made.role("svc_backup", log_in=True, kept=_SCRAM)
    first, second = teams["administrators"][:2]
    for person in (first, second):
        made.member("dba", person.name, check="databases.superuser-by-membership")
    made.member("oncall", teams["operators"][0].name, check="databases.superuser-by-membership")
    made.member("dba", "oncall")
    for person in teams["scientists"][:4]:
        made.member("scientists", person.name)
    made.member("pg_read_server_files", "svc_backup", check="databases.host-access")
    made.member("tides_owner", "svc_ingest")


def _objects(made: _Catalogue) -> None:
    for name, owner in (("postgres", "postgres"), ("tides", "tides_owner")):
        made.add("databases", name=name, owner=owner, connectable=True)
        for privilege in ("CONNECT", "TEMPORARY"):
            row = {"kind": "database", "schema": "", "name": name, "column": "", "owner": owner}
            made.add("cluster-grants", **row, grantee="", privilege=privilege, grantable=False)
    made.add("objects tides", kind="schema", schema="", name="app", owner="tides_owner", row_security=False)
    made.grant("app", "tides_owner", "USAGE", "CREATE", kind="schema")
    made.grant("app", "", "USAGE", kind="schema")
    for table in ("gauges", "readings", "notes"):
        made.add("objects tides", kind="table", schema="app", name=table, owner="tides_owner", row_security=False)
        made.grant(table, "tides_owner", *_TABLE)
    made.grant("readings", "scientists", "SELECT")
    made.grant("gauges", "scientists", "SELECT")
    made.grant("notes", "", "INSERT", "UPDATE", check="databases.public-write")
    routine = {"schema": "app", "name": "app.close_day(date)", "owner": "postgres"}
    made.add("routines tides", "databases.definer-function", **routine, definer=True, language="plpgsql", trusted=True, settings=None)
    made.grant("app.close_day(date)", "", "EXECUTE", kind="function", owner="postgres")


def _access(made: _Catalogue) -> None:
    rows = (
        ("", "local", ["all"], ["all"], None, None, "peer"),
        ("", "hostssl", ["all"], ["all"], "10.20.0.0", "255.255.0.0", "scram-sha-256"),
        ("databases.login-without-password", "host", ["tides"], ["svc_legacy"], "10.20.9.0", "255.255.255.0", "trust"),
    )
    for number, (check, kind, databases, roles, address, netmask, method) in enumerate(rows, 90):
        shown = {"type": kind, "database": databases, "role": roles, "address": address, "netmask": netmask}
        made.add("access-rules", check, line=number, **shown, method=method, options=None, error=None)
    made.add(
        "sessions",
        pid=4711,
        role="svc_ingest",
        database="tides",
        address="10.20.3.8",
        since="2026-11-20T05:00:00+00:00",
        application="ingest",
    )
