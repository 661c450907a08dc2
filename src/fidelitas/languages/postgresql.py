"""The catalogue of a PostgreSQL server, as rows in JSON: roles, memberships, grants, owners, rules of access (PostgreSQL manual, part VII).

Knows the columns that the queries of the source ask for; not what follows from them.  A row that is not as expected is a gap, and costs
only itself.
"""

import re
from collections.abc import Callable, Iterator, Mapping
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
    EventTrigger,
    IdentityMap,
    Place,
    RoleMembership,
    Routine,
    RowPolicy,
    UserMapping,
)
from fidelitas.languages.evidence import HostEvidence
from fidelitas.languages.rows import Row, RowReader, fact_of, text_of
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
    return _Catalogue(evidence, "catalogue row").facts()


class _Catalogue(RowReader):
    def facts(self) -> DatabaseFacts:
        server = next(iter(self.rows("server")), ({}, Place(self.evidence.subject, "server")))[0]
        version = server.get("version", 0)
        passwords = {row.get("name"): row.get("kind") for row, _ in self.rows("passwords")}
        roles = self._all("roles", lambda row, _, place: _role(row, passwords, place))
        inherits = {role.name: role.inherit for role in roles}
        return DatabaseFacts(
            subject=self.evidence.subject,
            taken=self.evidence.taken,
            version=version if isinstance(version, int) else 0,
            version_text=str(server.get("version_text", "")),
            host_name=str(server.get("host_name") or "") or None,
            taken_by=str(server.get("taken_by", "")),
            ssl=server.get("ssl") == "on",
            roles=roles,
            memberships=self._all("memberships", lambda row, _, place: _membership(row, inherits, place)),
            objects=self._all("objects", _object) + self._all("databases", _database) + self._all("tablespaces", _tablespace),
            grants=self._all("grants", _grant) + self._all("cluster-grants", _grant) + self._all("parameter-grants", _grant),
            routines=self._all("routines", _routine),
            defaults=self._all("default-privileges", _default),
            extensions=self._all("extensions", _extension),
            access=self._access(),
            sessions=self._all("sessions", _session),
            mappings=tuple(self._mappings()),
            databases=tuple(str(row.get("name", "")) for row, _ in self.rows("databases")),
            closed=frozenset(str(row.get("name")) for row, _ in self.rows("databases") if row.get("connectable") is False),
            full=frozenset(str(row.get("name")) for row, _ in self.rows("databases") if row.get("connection_limit") == 0),
            event_triggers=self._all("event-triggers", lambda row, name, place: fact_of(EventTrigger, row, place, database=name)),
            identity_maps=self._all("identity-maps", lambda row, _, place: fact_of(IdentityMap, row, place)),
            policies=self._all("policies", _policy),
            parameters={str(row.get("name")): str(row.get("setting") or "") for row, _ in self.rows("host-parameters")},
            gaps=self.gaps,
        )

    def _mappings(self) -> Iterator[UserMapping]:
        for name in (one for one in self.evidence.listings if one.startswith("user-mappings")):
            for row, place in self.rows(name):
                if row.get("password", False) is None:
                    weakens = "whether a password for another server is stored for a role (databases.stored-password)"
                    self.missing("its options are hidden from the account that asked", weakens, place, what="user mapping")
                else:
                    yield from self.one(_of(_mapping, name), row, place)

    def _access(self) -> tuple[AccessRule, ...] | None:
        if "access-rules" not in self.evidence.listings:
            return None
        found = []
        quoted = {row.get("line"): row for row, _ in self.rows("access-quotes")}
        for row, place in self.rows("access-rules"):
            if row.get("type") is None:
                why = f"the server cannot read this line: {clipped(escape_control(str(row.get('error'))), 120)}"
                weakens = "which logins it was meant to allow; after an error a reload keeps the rules from before"
                self.missing(why, weakens, place, what="rule of access")
            else:
                found += self.one(lambda one, at: _access_rule(one, quoted.get(one.get("line"), {}), at), row, place)
        return tuple(found)

    def _all(self, listing: str, make: Callable[[Row, str, Place], T]) -> tuple[T, ...]:
        """Return the facts of a listing: of the server, or of every database in turn."""
        names = [name for name in self.evidence.listings if name == listing or name.startswith(f"{listing} ")]
        return tuple(fact for name in names for row, place in self.rows(name) for fact in self.one(_of(make, name), row, place))


def _of(make: Callable[[Row, str, Place], T], listing: str) -> Callable[[Row, Place], T]:
    """Return what makes a fact of a row in the listing of one database, whose name follows that of the listing."""
    return lambda row, place: make(row, listing.partition(" ")[2], place)


# A column whose field has a longer name here.
_KIND = {"object_kind": "kind"}


def _role(row: Row, passwords: Mapping[Any, Any], place: Place) -> DatabaseRole:
    kind = passwords.get(text_of(row, "name"))
    limit = -1 if row.get("connection_limit") is None else int(row["connection_limit"])
    password = kind if isinstance(kind, str) else None
    return fact_of(DatabaseRole, row, place, {"login": "log_in"}, connection_limit=limit, password=password)


def _membership(row: Row, inherits: Mapping[str, bool], place: Place) -> RoleMembership:
    inherit, may_set, grantor = row.get("inherit"), row.get("set"), row.get("grantor")
    return fact_of(
        RoleMembership, row, place,
        inherit=inherits.get(text_of(row, "member"), True) if inherit is None else bool(inherit),
        set=True if may_set is None else bool(may_set),
        grantor=grantor if isinstance(grantor, str) else None,
    )  # fmt: skip


_NO_FLAGS: Mapping[str, Any] = {"row_security": False, "forced": False, "plain": False}


def _object(row: Row, database: str, place: Place) -> DatabaseObject:
    flags = {name: bool(row.get(name)) for name in ("row_security", "forced", "plain")}
    return fact_of(DatabaseObject, row, place, _KIND, database=database, **flags)


def _policy(row: Row, database: str, place: Place) -> RowPolicy:
    return fact_of(RowPolicy, row, place, database=database)


def _tablespace(row: Row, _: str, place: Place) -> DatabaseObject:
    return fact_of(DatabaseObject, row, place, database="", object_kind="tablespace", schema="", **_NO_FLAGS)


def _database(row: Row, _: str, place: Place) -> DatabaseObject:
    return fact_of(DatabaseObject, row, place, database="", object_kind="database", schema="", **_NO_FLAGS)


def _grant(row: Row, database: str, place: Place) -> DatabaseGrant:
    return fact_of(DatabaseGrant, row, place, _KIND, database=database)


def _routine(row: Row, database: str, place: Place) -> Routine:
    return fact_of(Routine, row, place, database=database)


def _extension(row: Row, database: str, place: Place) -> DatabaseExtension:
    return fact_of(DatabaseExtension, row, place, database=database)


def _default(row: Row, database: str, place: Place) -> DefaultPrivilege:
    return fact_of(DefaultPrivilege, row, place, _KIND, database=database)


# A name in quotation marks in a field of pg_hba.conf.
_QUOTED = re.compile(r'"([^"]*)"')


def _access_rule(row: Row, quoted: Row, place: Place) -> AccessRule:
    line, columns = int(row["line"]), {"databases": "database", "roles": "role"}
    address, netmask = row.get("address") or "", row.get("netmask") or ""
    at = Place(place.subject, "pg_hba.conf", line)
    databases, roles = (tuple(_QUOTED.findall(str(quoted.get(field) or ""))) for field in ("databases", "roles"))
    return fact_of(
        AccessRule, row, at, columns, line=line, address=address, netmask=netmask, quoted_databases=databases, quoted_roles=roles
    )


def _session(row: Row, _: str, place: Place) -> DatabaseSession:
    return fact_of(DatabaseSession, row, place, database=row.get("database") or "", address=row.get("address") or "")


def _mapping(row: Row, database: str, place: Place) -> UserMapping:
    return fact_of(UserMapping, row, place, database=database)
