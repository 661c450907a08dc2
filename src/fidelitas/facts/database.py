"""What a database service states about its roles: attributes, memberships, grants, owners, and what lets a connection in."""

from collections.abc import Mapping
from datetime import datetime

from msgspec import Struct, field

from fidelitas.equality import equal_apart_from
from fidelitas.facts.gaps import Gap
from fidelitas.facts.rows import Rows
from fidelitas.text import Place

__all__ = [
    "AccessRule",
    "DatabaseExtension",
    "DatabaseFacts",
    "DatabaseGrant",
    "DatabaseObject",
    "DatabaseRole",
    "DatabaseSession",
    "DefaultPrivilege",
    "EventTrigger",
    "IdentityMap",
    "Rewrite",
    "RoleMembership",
    "Routine",
    "RowPolicy",
    "Trigger",
    "TriggerMaker",
    "UserMapping",
]


@equal_apart_from("place")
class DatabaseRole(Struct, frozen=True, kw_only=True):
    """A role.  `password` is how it is kept (none, md5, scram-sha-256), ``None`` where that could not be seen."""

    name: str
    superuser: bool = False
    inherit: bool = True
    create_role: bool = False
    create_database: bool = False
    login: bool = False
    replication: bool = False
    bypass_row_security: bool = False
    connection_limit: int = -1
    valid_until: datetime | None = None
    password: str | None = None
    place: Place


@equal_apart_from("place")
class RoleMembership(Struct, frozen=True, kw_only=True):
    """A membership: with `inherit` the member has what the role is granted, with `set` it may become the role, with `admin` give it on."""

    role: str
    member: str
    admin: bool
    inherit: bool
    set: bool
    grantor: str | None
    place: Place


@equal_apart_from("place")
class DatabaseObject(Struct, frozen=True, kw_only=True):
    """An object of any kind, and who owns it; `database` is empty for what is the server's."""

    database: str
    object_kind: str
    schema: str
    name: str
    owner: str
    row_security: bool = False
    forced: bool = False  # row security is for its owner, too
    plain: bool = False  # nothing was granted or revoked: what is granted by default is no row of its own
    place: Place


@equal_apart_from("place")
class RowPolicy(Struct, frozen=True, kw_only=True):
    """A policy of row security; `roles` holds "" for everyone, `command` is a letter as in pg_policy, ``*`` for all."""

    database: str
    schema: str
    table: str
    name: str
    permissive: bool
    command: str
    roles: tuple[str, ...]
    place: Place


@equal_apart_from("place")
class DatabaseGrant(Struct, frozen=True, kw_only=True):
    """A privilege on an object; `grantee` is empty for everyone (PUBLIC), `column` for the whole object."""

    database: str
    object_kind: str
    schema: str
    name: str
    column: str
    owner: str
    grantee: str
    privilege: str
    grantable: bool
    place: Place


@equal_apart_from("place")
class Routine(Struct, frozen=True, kw_only=True):
    """A function that acts as its owner, or in a language that is not trusted."""

    database: str
    schema: str
    name: str
    owner: str
    definer: bool
    language: str
    trusted: bool
    settings: tuple[str, ...]
    place: Place


@equal_apart_from("place")
class EventTrigger(Struct, frozen=True, kw_only=True):
    """A function that runs, as any role, when that role makes, changes or removes an object."""

    database: str
    name: str
    enabled: bool
    function: str
    owner: str
    place: Place


@equal_apart_from("place")
class Rewrite(Struct, frozen=True, kw_only=True):
    """A view or a rule, and a table that it reaches with the rights of its owner, no matter who asks it (PostgreSQL manual, 41.5).

    `event` is a digit as in pg_rewrite: ``1`` for a view.  `updatable` adds up what a view passes on: 4 UPDATE, 8 INSERT, 16 DELETE.
    """

    database: str
    schema: str
    name: str
    owner: str
    rule: str
    event: str
    updatable: int
    other_schema: str
    other: str
    place: Place


@equal_apart_from("place")
class Trigger(Struct, frozen=True, kw_only=True):
    """A trigger whose function acts as its owner, or belongs to another than the table; `events` is as in pg_trigger."""

    database: str
    schema: str
    table: str
    owner: str
    name: str
    events: int
    function: str
    function_owner: str
    definer: bool
    settings: tuple[str, ...]
    place: Place


@equal_apart_from("place")
class TriggerMaker(Struct, frozen=True, kw_only=True):
    """Who may put triggers on so many tables of an owner; `table` is one of them, `grantee` is empty for everyone."""

    database: str
    owner: str
    grantee: str
    tables: int
    table: str
    place: Place


@equal_apart_from("place")
class DefaultPrivilege(Struct, frozen=True, kw_only=True):
    """What `owner` grants on every object of a kind that it makes; `schema` is empty for all."""

    database: str
    owner: str
    schema: str
    object_kind: str
    grantee: str
    privilege: str
    place: Place


@equal_apart_from("place")
class DatabaseExtension(Struct, frozen=True, kw_only=True):
    """An extension that a database has."""

    database: str
    name: str
    owner: str
    place: Place


@equal_apart_from("place")
class AccessRule(Struct, frozen=True, kw_only=True):
    """A line that says how whom to let in from where: the first that fits decides (pg_hba.conf)."""

    line: int
    type: str  # local, host, hostssl, hostnossl, hostgssenc, hostnogssenc
    databases: tuple[str, ...]
    roles: tuple[str, ...]
    address: str
    netmask: str
    method: str
    options: tuple[str, ...] = ()
    # Names in quotation marks, which take a special meaning from them.
    quoted_databases: tuple[str, ...] = ()
    quoted_roles: tuple[str, ...] = ()
    place: Place


@equal_apart_from("place")
class IdentityMap(Struct, frozen=True, kw_only=True):
    """A line of pg_ident.conf: whom a map lets in as which role; an account that begins with a slash is an expression."""

    map: str
    account: str
    role: str
    place: Place


@equal_apart_from("place")
class DatabaseSession(Struct, frozen=True, kw_only=True):
    """A connection that was open."""

    role: str
    database: str
    address: str
    since: datetime | None
    place: Place


@equal_apart_from("place")
class UserMapping(Struct, frozen=True, kw_only=True):
    """A role, or everyone, for whom a name at another server is kept, perhaps with a password."""

    database: str
    server: str
    role: str
    password: bool
    place: Place


class DatabaseFacts(Struct, frozen=True, kw_only=True):
    """Everything that one server states; what could not be seen is in `gaps`.

    Objects and grants are those in databases; those of the server itself (databases, tablespaces, parameters) stand apart.
    """

    subject: str
    taken: datetime
    version: int
    version_text: str
    host_name: str | None = None
    taken_by: str
    ssl: bool
    roles: tuple[DatabaseRole, ...]
    memberships: tuple[RoleMembership, ...]
    objects: Rows[DatabaseObject]
    grants: Rows[DatabaseGrant]
    server_objects: tuple[DatabaseObject, ...]
    server_grants: tuple[DatabaseGrant, ...]
    routines: tuple[Routine, ...]
    defaults: tuple[DefaultPrivilege, ...]
    extensions: tuple[DatabaseExtension, ...] = ()
    access: tuple[AccessRule, ...] | None  # None where it could not be seen
    sessions: tuple[DatabaseSession, ...]
    mappings: tuple[UserMapping, ...]
    databases: tuple[str, ...]
    closed: frozenset[str] = frozenset()  # databases that let nobody connect (datallowconn), superusers neither
    full: frozenset[str] = frozenset()  # databases whose connection limit is 0: superusers alone connect
    event_triggers: tuple[EventTrigger, ...] = ()
    rewrites: tuple[Rewrite, ...] = ()
    triggers: tuple[Trigger, ...] = ()
    trigger_makers: tuple[TriggerMaker, ...] = ()
    identity_maps: tuple[IdentityMap, ...] = ()
    policies: tuple[RowPolicy, ...] = ()
    parameters: Mapping[str, str] = field(default_factory=dict)  # those that name what the server runs or loads, as they are set
    gaps: tuple[Gap, ...]
