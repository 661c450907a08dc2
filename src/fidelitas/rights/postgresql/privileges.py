"""Whether a role has a privilege, as the server itself decides (PostgreSQL manual, 5.7 Privileges and chapter 22; acl.c).

A role has what it is granted itself, what everyone is granted, and what the roles are granted that it inherits from.  To become a role is
another thing: that gives its attributes, too.
"""

from collections.abc import Mapping
from functools import cache, cached_property
from typing import NamedTuple

from fidelitas.facts import DatabaseFacts, DatabaseGrant, DatabaseObject, DatabaseRole, Rewrite, RoleMembership, RowPolicy

__all__ = ["DATA_ROLES", "OWNER_OF_DATABASE", "Inherited", "Key", "Privileges", "privileges_of"]

# By object: database, kind, schema, name.
Key = tuple[str, str, str, str]
OWNER_OF_DATABASE = "pg_database_owner"
# From this version on a membership says itself whether it is inherited, and the attribute INHERIT of a role does not count any more.
SAYS_INHERIT = 160000
_DATA = frozenset({"table", "sequence"})
# What the predefined roles may do with all data; the first two may use every schema, too (manual, 22.5; acl.c).
DATA_ROLES = {
    "pg_read_all_data": frozenset({"SELECT"}),
    "pg_write_all_data": frozenset({"INSERT", "UPDATE", "DELETE"}),
    "pg_maintain": frozenset({"MAINTAIN"}),
}
# The privileges that there are on each kind of object (manual, 5.8, Privileges).
_OF_KIND = {
    "table": ("SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE", "REFERENCES", "TRIGGER", "MAINTAIN"),
    "sequence": ("SELECT", "UPDATE", "USAGE"),
    "schema": ("USAGE", "CREATE"),
    "function": ("EXECUTE",),
    "database": ("CONNECT", "CREATE", "TEMPORARY"),
    "tablespace": ("CREATE",),
    "type": ("USAGE",),
    "domain": ("USAGE",),
    "language": ("USAGE",),
    "foreign-data wrapper": ("USAGE",),
    "foreign server": ("USAGE",),
    "large object": ("SELECT", "UPDATE"),
    "parameter": ("SET", "ALTER SYSTEM"),
}
_SAYS_MAINTAIN = 170000
# What everyone is granted on a new object.
_TO_EVERYONE = {
    "function": ("EXECUTE",),
    "language": ("USAGE",),
    "type": ("USAGE",),
    "domain": ("USAGE",),
    "database": ("CONNECT", "TEMPORARY"),
}
# Row security limits these; by the letter that a policy of such a command has.
_COMMANDS = {"SELECT": "r", "INSERT": "a", "UPDATE": "w", "DELETE": "d"}


def privileges_of(kind: str, version: int) -> tuple[str, ...]:
    """Return the privileges that there are on a kind of object in a version of the server."""
    return tuple(one for one in _OF_KIND.get(kind, ()) if one != "MAINTAIN" or version >= _SAYS_MAINTAIN)


def _key(one: DatabaseObject | DatabaseGrant) -> Key:
    return one.database, "table" if one.object_kind == "column" else one.object_kind, one.schema, one.name


class Inherited(NamedTuple):
    """How a role has what is granted to another: through which role next, by which membership, and over how many.

    `through` is ``None`` for the role itself; `membership` is so, too, where a role has it as the owner of the database.
    """

    through: str | None
    membership: RoleMembership | None
    depth: int


class Privileges:
    """The decisions of one server."""

    def __init__(self, facts: DatabaseFacts) -> None:
        self.facts = facts
        self.roles: Mapping[str, DatabaseRole] = {role.name: role for role in facts.roles}
        self._closure = cache(self._reached)
        self._inheriting = cache(self._heirs)
        self._object = cache(self._found)
        self._granted = cache(self._stated)

    @cached_property
    def _by_member(self) -> dict[str, list[RoleMembership]]:
        found: dict[str, list[RoleMembership]] = {}
        for membership in self.facts.memberships:
            found.setdefault(membership.member, []).append(membership)
        return found

    @cached_property
    def _of_server(self) -> dict[Key, DatabaseObject]:
        return {_key(one): one for one in self.facts.server_objects}

    def _found(self, key: Key) -> DatabaseObject | None:
        here = self._of_server.get(key)
        return here or next((one for one in self.facts.objects.named(key[3]) if _key(one) == key), None)

    def _stated(self, key: Key) -> list[DatabaseGrant]:
        grants = self.facts.grants.named(key[3]) if key[0] else self.facts.server_grants
        return [one for one in grants if _key(one) == key]

    def is_superuser(self, role: str) -> bool:
        """Return whether a role, as it is, is a superuser."""
        found = self.roles.get(role)
        return found is not None and found.superuser

    def inherits(self, role: str, database: str = "") -> frozenset[str]:
        """Return the roles whose grants a role has, itself among them; who owns a database has those of pg_database_owner in it."""
        return self._closure(role, "inherit", database)

    def is_member(self, role: str) -> frozenset[str]:
        """Return the roles that a role is a member of, in whatever way, itself among them."""
        return frozenset(self.roles) if self.is_superuser(role) else self._closure(role, "", "")

    def _reached(self, role: str, way: str, database: str) -> frozenset[str]:
        owner = self.owner_having_grants(database) if way else self.owner_of_database(database)
        agenda, seen = [role], {role}
        for name in agenda:
            onward = [one.role for one in self._by_member.get(name, ()) if not way or getattr(one, way)]
            if name == owner:
                onward.append(OWNER_OF_DATABASE)
            for other in onward:
                if other not in seen:
                    seen.add(other)
                    agenda.append(other)
        return frozenset(seen)

    def owner_of_database(self, database: str) -> str:
        """Return who owns a database, and so is a member of pg_database_owner in it; "" where that is not known."""
        found = self._of_server.get(("", "database", "", database)) if database else None
        return found.owner if found is not None else ""

    def owner_having_grants(self, database: str) -> str:
        """Return who owns a database and has what pg_database_owner is granted: before version 16 not a role without INHERIT (acl.c)."""
        owner = self.owner_of_database(database)
        known = self.roles.get(owner)
        return owner if known is not None and (known.inherit or self.facts.version >= SAYS_INHERIT) else ""

    def put_into(self, role: str) -> frozenset[str]:
        """Return the roles that a role was made a member of, itself among them; a superuser is no member by being one."""
        return self._closure(role, "", "")

    def grants_on(self, key: Key) -> list[DatabaseGrant]:
        """Return the grants on an object, and on its columns; where nothing was granted or revoked, those that hold by default."""
        found = self._object(key)
        return self._granted(key) + (self._by_default(found) if found is not None and found.plain else [])

    def _by_default(self, one: DatabaseObject) -> list[DatabaseGrant]:
        """Return what acldefault() of the server grants: all to the owner, and to everyone what is usual for the kind."""
        every = privileges_of(one.object_kind, self.facts.version)
        granted = [("", privilege) for privilege in _TO_EVERYONE.get(one.object_kind, ())] + [(one.owner, privilege) for privilege in every]
        return [
            DatabaseGrant(
                database=one.database, object_kind=one.object_kind, schema=one.schema, name=one.name, column="", owner=one.owner,
                grantee=grantee, privilege=privilege, grantable=False, place=one.place,
            )
            for grantee, privilege in granted
        ]  # fmt: skip

    def owner_of(self, key: Key) -> DatabaseObject | None:
        """Return an object with its owner."""
        return self._object(key)

    def has(self, role: str, key: Key, privilege: str, *, grantable: bool = False, column: str = "") -> bool:
        """Return whether a role has a privilege on an object, or may grant it on; with `column` on that column, by whichever grant."""
        return self.is_superuser(role) or bool(self.why(role, key, privilege, grantable=grantable, column=column))

    def has_some(self, role: str, key: Key, privilege: str) -> bool:
        """Return whether a role has a privilege on an object, or on a column of it."""
        return any(self.has(role, key, privilege, column=column) for column in {"", *(grant.column for grant in self.grants_on(key))})

    def why(self, role: str, key: Key, privilege: str, *, grantable: bool = False, column: str = "") -> list[DatabaseGrant | str]:
        """Return what gives a role a privilege on an object: grants, ownership where it may be granted on, or a predefined role's name."""
        database = key[0]
        mine = self.inherits(role, database)
        found: list[DatabaseGrant | str] = []
        for grant in self.grants_on(key):
            fits = grant.privilege == privilege and grant.column in ("", column) and (grant.grantable or not grantable)
            if fits and (not grant.grantee or grant.grantee in mine):
                found.append(grant)
        if grantable:
            owner = next((grant.owner for grant in self.grants_on(key)), None)
            found += [f"owner {owner}"] if owner in mine else []
            return found
        return found + [name for name in DATA_ROLES if name in mine and self.gives(name, key, privilege)]

    def gives(self, predefined: str, key: Key, privilege: str) -> bool:
        """Return whether one of the `DATA_ROLES` has a privilege on an object without any grant (acl.c)."""
        if key[1] == "schema":
            return privilege == "USAGE" and predefined != "pg_maintain"
        return key[1] in _DATA and privilege in DATA_ROLES[predefined]

    # -- row security -------------------------------------------------------------------------------------------------------------

    @cached_property
    def _policies(self) -> dict[Key, list[RowPolicy]]:
        found: dict[Key, list[RowPolicy]] = {}
        for policy in self.facts.policies:
            found.setdefault((policy.database, "table", policy.schema, policy.table), []).append(policy)
        return found

    def rows_of(self, role: str, key: Key, privilege: str) -> str:
        """Return to which rows of a table row security limits a privilege of a role, as a clause; nothing where it does not.

        With "" for a role: for everyone who is not exempt (manual, 5.9, Row Security Policies).
        """
        table = self._object(key)
        if table is None or not table.row_security or privilege not in _COMMANDS or self._is_exempt(role, table):
            return ""
        mine = self.inherits(role, key[0]) if role else frozenset({""})
        policies = [one for one in self._policies.get(key, ()) if one.command in ("*", _COMMANDS[privilege])]
        names = [one.name for one in policies if not role or "" in one.roles or mine & {*one.roles}]
        if not any(one.permissive for one in policies if one.name in names):
            return "row security is on and no policy is for it: no rows"
        return f"rows limited by polic{'ies' if len(names) > 1 else 'y'} {', '.join(names)}"

    def _is_exempt(self, role: str, table: DatabaseObject) -> bool:
        found = self.roles.get(role)
        if found is None:
            return False
        return found.superuser or found.bypass_row_security or (not table.forced and table.owner in self.inherits(role, table.database))

    # -- views and rules ----------------------------------------------------------------------------------------------------------

    def rewrites_to(self, key: Key) -> list[Rewrite]:
        """Return the views and rules that reach a table with the rights of their owner."""
        return self._rewrites.get(key, [])

    @cached_property
    def _rewrites(self) -> dict[Key, list[Rewrite]]:
        found: dict[Key, list[Rewrite]] = {}
        for one in self.facts.rewrites:
            found.setdefault((one.database, "table", one.other_schema, one.other), []).append(one)
        return found

    # -- the other way round: who has it ------------------------------------------------------------------------------------------

    @cached_property
    def _by_role(self) -> dict[str, list[RoleMembership]]:
        found: dict[str, list[RoleMembership]] = {}
        for membership in self.facts.memberships:
            found.setdefault(membership.role, []).append(membership)
        return found

    def inheriting(self, role: str, database: str) -> Mapping[str, Inherited]:
        """Return the roles that have what is granted to a role, itself first, the nearest first; each with how it does."""
        return self._inheriting(role, database)

    def _heirs(self, role: str, database: str) -> Mapping[str, Inherited]:
        owner = self.owner_having_grants(database)
        found = {role: Inherited(None, None, 0)}
        agenda = [role]
        for name in agenda:
            onward: list[tuple[str, RoleMembership | None]] = [(one.member, one) for one in self._by_role.get(name, ()) if one.inherit]
            if name == OWNER_OF_DATABASE and owner:
                onward.append((owner, None))
            for member, membership in onward:
                if member not in found:
                    found[member] = Inherited(name, membership, found[name].depth + 1)
                    agenda.append(member)
        return found

    def schema_users(self, key: Key) -> frozenset[str] | None:
        """Return the roles that may use the schema of an object, or ``None`` where every role may, or it is in none."""
        if not key[2]:
            return None
        schema = (key[0], "schema", "", key[2])
        grantees = [grant.grantee for grant in self.grants_on(schema) if grant.privilege == "USAGE"]
        if not all(grantees):
            return None
        every = (name for name in DATA_ROLES if self.gives(name, schema, "USAGE"))
        heirs = (self.inheriting(role, key[0]) for role in dict.fromkeys((*grantees, *every)))
        return frozenset(role.name for role in self.facts.roles if role.superuser).union(*heirs)
