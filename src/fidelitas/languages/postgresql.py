"""The catalogue of a PostgreSQL server, as rows in JSON: roles, memberships, grants, owners, rules of access (PostgreSQL manual, part VII).

Knows the columns that the queries of the source ask for; not what follows from them.  A row that is not as expected is a gap, and costs
only itself.
"""

from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from typing import Any, TypeVar

from fidelitas.facts import (
    AccessRule,
    DatabaseExtension,
    DatabaseFacts,
    DatabaseGrant,
    DatabaseObject,
    DatabaseRole,
    DatabaseSession,
    DefaultPrivilege,
    Place,
    RoleMembership,
    Routine,
    UserMapping,
)
from fidelitas.languages.evidence import HostEvidence
from fidelitas.languages.rows import Row, RowReader
from fidelitas.languages.rows import text_of as _text
from fidelitas.text import clipped, escape_control

__all__ = ["is_postgresql_dump", "read_postgresql"]

T = TypeVar("T")
# From this version on a membership itself says whether it is inherited (release notes of PostgreSQL 16).
_SAYS_INHERIT = 160000


def is_postgresql_dump(content: bytes) -> bool:
    """Return whether a file is what the script for psql printed."""
    return content.startswith(b"fidelitas-postgresql ")


def read_postgresql(evidence: HostEvidence) -> DatabaseFacts:
    """Return what the catalogue rows of a server state."""
    return _Reader(evidence).facts()


class _Reader:
    def __init__(self, evidence: HostEvidence) -> None:
        self._evidence = evidence
        self._reader = RowReader(evidence, "catalogue row")
        self._rows = self._reader.rows

    def facts(self) -> DatabaseFacts:
        server = next(iter(self._rows("server")), ({}, Place(self._evidence.subject, "server")))[0]
        version = server.get("version", 0)
        passwords = {row.get("name"): row.get("kind") for row, _ in self._rows("passwords")}
        roles = self._all("roles", lambda row, _, place: _role(row, passwords, place))
        inherits = {role.name: role.inherit for role in roles}
        return DatabaseFacts(
            subject=self._evidence.subject,
            taken=self._evidence.taken,
            version=version if isinstance(version, int) else 0,
            version_text=str(server.get("version_text", "")),
            host_name=str(server.get("host_name") or ""),
            taken_by=str(server.get("taken_by", "")),
            ssl=server.get("ssl") == "on",
            roles=roles,
            memberships=self._all("memberships", lambda row, _, place: _membership(row, inherits, place)),
            objects=self._all("objects", _object) + self._all("databases", _database),
            grants=self._all("grants", _grant) + self._all("cluster-grants", _grant) + self._all("parameter-grants", _grant),
            routines=self._all("routines", _routine),
            defaults=self._all("default-privileges", _default),
            extensions=self._all("extensions", _extension),
            access=self._access(),
            sessions=self._all("sessions", _session),
            mappings=self._all("user-mappings", _mapping),
            databases=tuple(str(row.get("name", "")) for row, _ in self._rows("databases")),
            gaps=self._reader.gaps,
        )

    def _access(self) -> tuple[AccessRule, ...] | None:
        if "access-rules" not in self._evidence.listings:
            return None
        found = []
        for row, place in self._rows("access-rules"):
            if row.get("type") is None:
                why = f"the server cannot read this line: {clipped(escape_control(str(row.get('error'))), 120)}"
                weakens = "what it was meant to let in; after an error a reload keeps the rules from before"
                self._reader.missing(why, weakens, place, what="rule of access")
            else:
                found += self._one(_access_rule, row, "", place)
        return tuple(found)

    def _all(self, listing: str, make: Callable[[Row, str, Place], T]) -> tuple[T, ...]:
        """Return the facts of a listing: of the server, or of every database in turn."""
        names = [name for name in self._evidence.listings if name == listing or name.startswith(f"{listing} ")]
        return tuple(
            fact for name in names for row, place in self._rows(name) for fact in self._one(make, row, name.partition(" ")[2], place)
        )

    def _one(self, make: Callable[[Row, str, Place], T], row: Row, database: str, place: Place) -> list[T]:
        return self._reader.one(lambda: make(row, database, place), place)


def _flag(row: Row, name: str) -> bool:
    value = row[name]
    if not isinstance(value, bool):
        raise TypeError(f"{name} is {value!r}")
    return value


def _texts(value: Any) -> tuple[str, ...]:
    return tuple(str(one) for one in value) if isinstance(value, list) else ()


def _time(value: Any) -> datetime | None:
    """Return a time; "infinity" is none, and so is what Python's calendar does not reach."""
    try:
        at = datetime.fromisoformat(value) if isinstance(value, str) else None
    except ValueError:
        return None
    return None if at is None else at.astimezone(UTC) if at.tzinfo else at.replace(tzinfo=UTC)


def _role(row: Row, passwords: Mapping[Any, Any], place: Place) -> DatabaseRole:
    name = _text(row, "name")
    kind = passwords.get(name)
    return DatabaseRole(
        name=name,
        superuser=_flag(row, "superuser"),
        inherit=_flag(row, "inherit"),
        create_role=_flag(row, "create_role"),
        create_database=_flag(row, "create_database"),
        login=_flag(row, "log_in"),
        replication=_flag(row, "replication"),
        bypass_row_security=_flag(row, "bypass_row_security"),
        connection_limit=-1 if row.get("connection_limit") is None else int(row["connection_limit"]),
        valid_until=_time(row.get("valid_until")),
        password=kind if isinstance(kind, str) else None,
        place=place,
    )


def _membership(row: Row, inherits: Mapping[str, bool], place: Place) -> RoleMembership:
    member = _text(row, "member")
    inherit, may_set = row.get("inherit"), row.get("set")
    return RoleMembership(
        role=_text(row, "role"),
        member=member,
        admin=_flag(row, "admin"),
        inherit=inherits.get(member, True) if inherit is None else bool(inherit),
        set=True if may_set is None else bool(may_set),
        grantor=row.get("grantor") if isinstance(row.get("grantor"), str) else None,
        place=place,
    )


def _object(row: Row, database: str, place: Place) -> DatabaseObject:
    return DatabaseObject(
        database=database,
        object_kind=_text(row, "kind"),
        schema=_text(row, "schema"),
        name=_text(row, "name"),
        owner=_text(row, "owner"),
        row_security=bool(row.get("row_security")),
        place=place,
    )


def _database(row: Row, _: str, place: Place) -> DatabaseObject:
    return DatabaseObject(database="", object_kind="database", schema="", name=_text(row, "name"), owner=_text(row, "owner"), place=place)


def _grant(row: Row, database: str, place: Place) -> DatabaseGrant:
    return DatabaseGrant(
        database=database,
        object_kind=_text(row, "kind"),
        schema=_text(row, "schema"),
        name=_text(row, "name"),
        column=_text(row, "column"),
        owner=_text(row, "owner"),
        grantee=_text(row, "grantee"),
        privilege=_text(row, "privilege"),
        grantable=_flag(row, "grantable"),
        place=place,
    )


def _routine(row: Row, database: str, place: Place) -> Routine:
    return Routine(
        database=database,
        schema=_text(row, "schema"),
        name=_text(row, "name"),
        owner=_text(row, "owner"),
        definer=_flag(row, "definer"),
        language=_text(row, "language"),
        trusted=_flag(row, "trusted"),
        settings=_texts(row.get("settings")),
        place=place,
    )


def _extension(row: Row, database: str, place: Place) -> DatabaseExtension:
    return DatabaseExtension(database=database, name=_text(row, "name"), owner=_text(row, "owner"), place=place)


def _default(row: Row, database: str, place: Place) -> DefaultPrivilege:
    return DefaultPrivilege(
        database=database,
        owner=_text(row, "owner"),
        schema=_text(row, "schema"),
        object_kind=_text(row, "kind"),
        grantee=_text(row, "grantee"),
        privilege=_text(row, "privilege"),
        place=place,
    )


def _access_rule(row: Row, _: str, place: Place) -> AccessRule:
    return AccessRule(
        line=int(row["line"]),
        type=_text(row, "type"),
        databases=_texts(row.get("database")),
        roles=_texts(row.get("role")),
        address=row.get("address") or "",
        netmask=row.get("netmask") or "",
        method=_text(row, "method"),
        options=_texts(row.get("options")),
        place=Place(place.subject, "pg_hba.conf", int(row["line"])),
    )


def _session(row: Row, _: str, place: Place) -> DatabaseSession:
    return DatabaseSession(
        role=_text(row, "role"),
        database=row.get("database") or "",
        address=row.get("address") or "",
        since=_time(row.get("since")),
        place=place,
    )


def _mapping(row: Row, database: str, place: Place) -> UserMapping:
    return UserMapping(
        database=database, server=_text(row, "server"), role=_text(row, "role"), password=_flag(row, "password"), place=place
    )
