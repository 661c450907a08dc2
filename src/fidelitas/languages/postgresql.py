"""The catalogue of a PostgreSQL server, as rows in JSON: roles, memberships, grants, owners, rules of access (PostgreSQL manual, part VII).

Knows the columns that the queries of the source ask for; not what follows from them.  A row that is not as expected is a gap, and costs
only itself.
"""

import re
from collections.abc import Callable, Iterator, Mapping
from typing import Any, TypeVar

import msgspec

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
    Rewrite,
    RoleMembership,
    Routine,
    RowPolicy,
    Trigger,
    TriggerMaker,
    UserMapping,
)
from fidelitas.languages.evidence import HostEvidence
from fidelitas.languages.listed_facts import listed_facts, typed_facts
from fidelitas.languages.rows import Row, RowReader, fact_of, time_in
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
        roles = typed_facts(self, "roles", _RoleRow, lambda row, _, place: _role(row, passwords, place))
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
            memberships=typed_facts(self, "memberships", _MembershipRow, lambda row, _, place: _membership(row, inherits, place)),
            objects=listed_facts(self, "objects", _ObjectRow, _object),
            grants=listed_facts(self, "grants", _GrantRow, _grants, _UsualGrantRow),
            server_objects=self._all("databases", _database) + self._all("tablespaces", _tablespace),
            server_grants=(
                *listed_facts(self, "cluster-grants", _GrantRow, _grants, _UsualGrantRow),
                *listed_facts(self, "parameter-grants", _GrantRow, _grants, _UsualGrantRow),
            ),
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
            rewrites=self._all("rewrites", lambda row, name, place: fact_of(Rewrite, row, place, database=name)),
            triggers=self._all("triggers", lambda row, name, place: fact_of(Trigger, row, place, database=name)),
            trigger_makers=self._all("trigger-makers", lambda row, name, place: fact_of(TriggerMaker, row, place, database=name)),
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


class _RoleRow(msgspec.Struct, gc=False):
    name: str
    superuser: bool
    inherit: bool
    create_role: bool
    create_database: bool
    log_in: bool
    replication: bool
    bypass_row_security: bool
    connection_limit: int | None = None
    valid_until: str | None = None


def _role(row: _RoleRow, passwords: Mapping[Any, Any], place: Place) -> tuple[DatabaseRole]:
    kind = passwords.get(row.name)
    made = DatabaseRole(
        name=row.name, superuser=row.superuser, inherit=row.inherit, create_role=row.create_role, create_database=row.create_database,
        login=row.log_in, replication=row.replication, bypass_row_security=row.bypass_row_security,
        connection_limit=-1 if row.connection_limit is None else row.connection_limit, valid_until=time_in(row.valid_until),
        password=kind if isinstance(kind, str) else None, place=place,
    )  # fmt: skip
    return (made,)


class _MembershipRow(msgspec.Struct, gc=False):
    role: str
    member: str
    admin: bool
    inherit: bool | None = None
    set: bool | None = None
    grantor: str | None = None


def _membership(row: _MembershipRow, inherits: Mapping[str, bool], place: Place) -> tuple[RoleMembership]:
    made = RoleMembership(
        role=row.role, member=row.member, admin=row.admin, grantor=row.grantor, place=place,
        inherit=inherits.get(row.member, True) if row.inherit is None else row.inherit,
        set=True if row.set is None else row.set,
    )  # fmt: skip
    return (made,)


_NO_FLAGS: Mapping[str, Any] = {"row_security": False, "forced": False, "plain": False}


class _ObjectRow(msgspec.Struct, gc=False):
    kind: str
    schema: str
    name: str
    owner: str
    row_security: bool | None = None
    forced: bool | None = None
    plain: bool | None = None


def _object(row: _ObjectRow, database: str, place: Place) -> tuple[DatabaseObject]:
    made = DatabaseObject(
        database=database, object_kind=row.kind, schema=row.schema, name=row.name, owner=row.owner, row_security=bool(row.row_security),
        forced=bool(row.forced), plain=bool(row.plain), place=place,
    )  # fmt: skip
    return (made,)


def _policy(row: Row, database: str, place: Place) -> RowPolicy:
    return fact_of(RowPolicy, row, place, database=database)


def _tablespace(row: Row, _: str, place: Place) -> DatabaseObject:
    return fact_of(DatabaseObject, row, place, database="", object_kind="tablespace", schema="", **_NO_FLAGS)


def _database(row: Row, _: str, place: Place) -> DatabaseObject:
    return fact_of(DatabaseObject, row, place, database="", object_kind="database", schema="", **_NO_FLAGS)


class _GrantRow(msgspec.Struct, gc=False):
    """What a role is granted on an object: privileges, each with whether it may be granted on, or, as before, one of them."""

    kind: str
    schema: str
    name: str
    column: str
    owner: str
    grantee: str
    privileges: dict[str, bool] | None = None
    privilege: str | None = None
    grantable: bool = False

    def __post_init__(self) -> None:
        if self.privileges is None and self.privilege is None:
            raise ValueError("it has no privileges")


class _UsualGrantRow(msgspec.Struct, gc=False):
    """A grant as it is stated today: every row that is one is a `_GrantRow`, so that nothing is lost when it is read as that."""

    kind: str
    schema: str
    name: str
    column: str
    owner: str
    grantee: str
    privileges: dict[str, bool]
    privilege: str | None = None
    grantable: bool = False


def _grants(row: _GrantRow, database: str, place: Place) -> list[DatabaseGrant]:
    privileges = row.privileges if row.privileges is not None else {str(row.privilege): row.grantable}
    return [
        DatabaseGrant(
            database=database, object_kind=row.kind, schema=row.schema, name=row.name, column=row.column, owner=row.owner,
            grantee=row.grantee, privilege=privilege, grantable=grantable, place=place,
        )
        for privilege, grantable in privileges.items()
    ]  # fmt: skip


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
