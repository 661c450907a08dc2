"""What a MariaDB or MySQL server states: accounts as user and host pattern, roles, grants, and what is in force."""

from collections.abc import Mapping
from datetime import datetime
from enum import StrEnum

from msgspec import Struct

from fidelitas.equality import equal_apart_from
from fidelitas.facts.gaps import Gap
from fidelitas.text import Place

__all__ = ["AccountGrant", "DatabaseAccount", "DefinerObject", "GrantScope", "MariadbFacts", "ProxyGrant", "RoleGrant"]


@equal_apart_from("place")
class DatabaseAccount(Struct, frozen=True, kw_only=True):
    """An account, or with `role` a role.  `privileges` are the global ones; `logins` the ways to log in: plugin and kind of password.

    A kind is empty, none, plain, outdated or current; of several ways any one is enough.  `certificate` says what a client certificate must
    be ("of any client", "of the subject /CN=…"), "" where none is required.
    """

    user: str
    host: str
    role: bool
    privileges: frozenset[str]
    logins: tuple[tuple[str, str], ...]
    locked: bool = False
    expired: bool = False
    tls: bool = False
    certificate: str = ""
    default_roles: frozenset[str] = frozenset()
    place: Place

    @property
    def name(self) -> str:
        """The account as it is written: ``user@host``, a role by its name alone."""
        return self.user if self.role else f"{self.user}@{self.host}"


class GrantScope(StrEnum):
    """What privileges are granted on."""

    DATABASE = "database"
    TABLE = "table"
    COLUMN = "column"
    ROUTINE = "routine"


@equal_apart_from("place")
class AccountGrant(Struct, frozen=True, kw_only=True):
    """Privileges on a database (its name a pattern), a table, a column or a routine."""

    user: str
    host: str
    database: str
    scope: GrantScope
    name: str
    column: str
    privileges: frozenset[str]
    place: Place


@equal_apart_from("place")
class RoleGrant(Struct, frozen=True, kw_only=True):
    """A role that an account or another role was granted; `host` is empty where the member is a role."""

    user: str
    host: str
    role: str
    admin: bool
    place: Place


@equal_apart_from("place")
class ProxyGrant(Struct, frozen=True, kw_only=True):
    """An account that may act as another; an empty proxied user is anyone."""

    user: str
    host: str
    proxied_user: str
    proxied_host: str
    place: Place


@equal_apart_from("place")
class DefinerObject(Struct, frozen=True, kw_only=True):
    """A routine, view, trigger or event that acts as the account that defined it."""

    object_kind: str  # routine, view, trigger or event, in the words of the server
    database: str
    name: str
    definer: str
    place: Place


class MariadbFacts(Struct, frozen=True, kw_only=True):
    """Everything that one server states.  `in_force` are the global privileges that the server really gives, by account."""

    subject: str
    taken: datetime
    version: str
    taken_by: str
    host_name: str | None = None
    resolves_names: bool
    tls: bool
    accounts: tuple[DatabaseAccount, ...]
    grants: tuple[AccountGrant, ...]
    roles: tuple[RoleGrant, ...]
    proxies: tuple[ProxyGrant, ...]
    definers: tuple[DefinerObject, ...]
    objects: frozenset[tuple[str, str, str]] | None = None  # kind ("table" or "routine"), database, name; None where they were not listed
    in_force: dict[str, frozenset[str]] | None
    # By account, database (a pattern) and table, "" for the whole database; None where that could not be seen.
    objects_in_force: Mapping[tuple[str, str, str], frozenset[str]] | None = None
    databases: tuple[str, ...]
    sessions: tuple[tuple[str, str], ...]
    gaps: tuple[Gap, ...]
