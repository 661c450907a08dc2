"""Whether a role has a privilege, as the server itself decides (PostgreSQL manual, 5.7 Privileges and chapter 22; acl.c).

A role has what it is granted itself, what everybody is granted, and what the roles are granted that it inherits from.  To become a role is
another thing: that gives its attributes, too.
"""

from collections.abc import Mapping
from functools import cache, cached_property
from typing import NamedTuple

from fidelitas.facts import DatabaseFacts, DatabaseGrant, DatabaseObject, DatabaseRole, RoleMembership

__all__ = ["DATA_ROLES", "Inherited", "Privileges"]

# By object: database, kind, schema, name.
Key = tuple[str, str, str, str]
_OWNER_OF_DATABASE = "pg_database_owner"
_DATA = frozenset({"table", "sequence", "column"})
# What the predefined roles may do with all data, and that they may use every schema (manual, 22.5).
DATA_ROLES = {"pg_read_all_data": frozenset({"SELECT"}), "pg_write_all_data": frozenset({"INSERT", "UPDATE", "DELETE"})}


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

    @cached_property
    def _by_member(self) -> dict[str, list[RoleMembership]]:
        found: dict[str, list[RoleMembership]] = {}
        for membership in self.facts.memberships:
            found.setdefault(membership.member, []).append(membership)
        return found

    @cached_property
    def _by_object(self) -> dict[Key, list[DatabaseGrant]]:
        found: dict[Key, list[DatabaseGrant]] = {}
        for grant in self.facts.grants:
            kind = "table" if grant.object_kind == "column" else grant.object_kind
            found.setdefault((grant.database, kind, grant.schema, grant.name), []).append(grant)
        return found

    @cached_property
    def _objects(self) -> dict[Key, DatabaseObject]:
        return {(one.database, one.object_kind, one.schema, one.name): one for one in self.facts.objects}

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
        found = self._objects.get(("", "database", "", database)) if database else None
        owner = found.owner if found is not None else ""
        agenda, seen = [role], {role}
        for name in agenda:
            onward = [one.role for one in self._by_member.get(name, ()) if not way or getattr(one, way)]
            if name == owner:
                onward.append(_OWNER_OF_DATABASE)
            for other in onward:
                if other not in seen:
                    seen.add(other)
                    agenda.append(other)
        return frozenset(seen)

    def put_into(self, role: str) -> frozenset[str]:
        """Return the roles that a role was made a member of, itself among them; a superuser is no member by being one."""
        return self._closure(role, "", "")

    def grants_on(self, key: Key) -> list[DatabaseGrant]:
        """Return the grants on an object, and on its columns."""
        return self._by_object.get(key, [])

    def owner_of(self, key: Key) -> DatabaseObject | None:
        """Return an object with its owner."""
        return self._objects.get(key)

    def has(self, role: str, key: Key, privilege: str, *, grantable: bool = False, column: str = "") -> bool:
        """Return whether a role has a privilege on an object, or may grant it on; with `column` on that column, by whichever grant."""
        return self.is_superuser(role) or bool(self.why(role, key, privilege, grantable=grantable, column=column))

    def why(self, role: str, key: Key, privilege: str, *, grantable: bool = False, column: str = "") -> list[DatabaseGrant | str]:
        """Return what gives a role a privilege on an object: grants, ownership where it may be granted on, or a predefined role's name."""
        database = key[0]
        mine = self.inherits(role, database)
        found: list[DatabaseGrant | str] = []
        for grant in self._by_object.get(key, ()):
            fits = grant.privilege == privilege and grant.column in ("", column) and (grant.grantable or not grantable)
            if fits and (not grant.grantee or grant.grantee in mine):
                found.append(grant)
        if grantable:
            owner = next((grant.owner for grant in self._by_object.get(key, ())), None)
            found += [f"owner {owner}"] if owner in mine else []
            return found
        return found + [name for name in DATA_ROLES if name in mine and self.gives(name, key, privilege)]

    def gives(self, predefined: str, key: Key, privilege: str) -> bool:
        """Return whether one of the `DATA_ROLES` has a privilege on an object without any grant (acl.c)."""
        if key[1] == "schema":
            return privilege == "USAGE"
        return key[1] in _DATA and privilege in DATA_ROLES[predefined]

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
        owner = self._objects.get(("", "database", "", database))
        found = {role: Inherited(None, None, 0)}
        agenda = [role]
        for name in agenda:
            onward: list[tuple[str, RoleMembership | None]] = [(one.member, one) for one in self._by_role.get(name, ()) if one.inherit]
            if name == _OWNER_OF_DATABASE and owner is not None:
                onward.append((owner.owner, None))
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
        heirs = (self.inheriting(role, key[0]) for role in dict.fromkeys((*grantees, *DATA_ROLES)))
        return frozenset(role.name for role in self.facts.roles if role.superuser).union(*heirs)
