"""Who may do what with an object of a database, or with the database itself.

A session acts as one role at a time: the one that logged in, or one that SET ROLE made it.  What that role may do is decided for it as a
whole, as the server does: the privilege and the use of the schema may come to it by different memberships, yet both must be had by the
same role.  So each role is a node; what it inherits is folded into the edge from it to the right, and edges between roles are those by
which a session becomes another role.
"""

from collections.abc import Iterator, Mapping
from dataclasses import replace

from fidelitas.facts import DatabaseGrant, RoleMembership
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, Principal, PrincipalKind, Right, Strength
from fidelitas.rights.graph.paths import Edge, LinkPath, further_links
from fidelitas.rights.postgresql.links import membership_link, predefined
from fidelitas.rights.postgresql.privileges import DATA_ROLES, Inherited, Key, Privileges
from fidelitas.rights.subject import DatabaseServer

__all__ = ["object_edges", "privileges_on"]

# The privileges that there are on each kind of object, as far as a role can have them that nobody granted it (pg_read_all_data, owners).
_PRIVILEGES = {
    "table": ("SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE", "REFERENCES", "TRIGGER"),
    "sequence": ("SELECT", "UPDATE", "USAGE"),
    "schema": ("USAGE", "CREATE"),
}
# Longer chains of memberships are shown by their first link and how many follow: no honest nesting is as deep.
_MOST_LINKS = 100


def privileges_on(privileges: Privileges, key: Key) -> list[str]:
    """Return the privileges on an object that somebody can have."""
    granted = (grant.privilege for grant in privileges.grants_on(key))
    return list(dict.fromkeys((*_PRIVILEGES.get(key[1], ()), *granted)))


def object_edges(server: DatabaseServer, privileges: Privileges, key: Key, privilege: str, right: Right) -> Iterator[Edge]:
    """Yield the ways of roles to a privilege on an object, each from the role that a session acts as."""
    return _Object(server, privileges, key, right).edges(privilege)


class _Object:
    def __init__(self, server: DatabaseServer, privileges: Privileges, key: Key, right: Right) -> None:
        self._server, self._privileges, self._key, self._right = server, privileges, key, right
        self._users = privileges.schema_users(key)  # None where everybody may use its schema

    def edges(self, privilege: str) -> Iterator[Edge]:
        grants = [grant for grant in self._privileges.grants_on(self._key) if grant.privilege == privilege]
        for grant in grants:
            yield from self._inherited(grant.grantee, self._granted(grant)) if grant.grantee else self._public(grant)
        for name in DATA_ROLES:
            role = self._privileges.roles.get(name)
            if role is not None and self._privileges.gives(name, self._key, privilege):
                by, because = By(Mechanism.PREDEFINED_ROLE, name), predefined()[name][1]
                yield from self._inherited(name, self._server.link(name, self._right, LinkKind.HAS, by, because, role.place))
        for role in self._privileges.roles.values():
            if role.superuser:
                because, by = "no privilege is checked for a superuser", By(Mechanism.ATTRIBUTE, "SUPERUSER")
                yield Edge((self._server.link(role.name, self._right, LinkKind.HAS, by, because, role.place),))
        yield from self._owner({grant.grantee for grant in grants})

    def _owner(self, grantees: set[str]) -> Iterator[Edge]:
        """Yield that the owner, who was not granted the privilege or lost it, may grant it to itself."""
        found = self._privileges.owner_of(self._key)
        if found is not None and found.owner not in grantees:
            because = f"owns {self._key[1]} {self._key[3]}, and may grant itself any privilege on it"
            by = By(Mechanism.OWNER)
            link = self._server.link(found.owner, self._right, LinkKind.MAY_GRANT, by, because, found.place, certain=True)
            yield from self._inherited(found.owner, link)

    def _inherited(self, grantee: str, last: Link) -> Iterator[Edge]:
        """Yield the ways of the roles that inherit what a role has; an edge is only sure for a role that may use the schema."""
        without = replace(last, strength=Strength.CONDITIONAL, conditions=(self._condition,))
        onward = self._privileges.inheriting(grantee, self._key[0])
        for role in onward:
            yield Edge((*self._memberships(role, onward), last if self._users is None or role in self._users else without))

    @property
    def _condition(self) -> str:
        return f"if the role may use schema {self._key[2]}"

    def _memberships(self, role: str, onward: Mapping[str, Inherited]) -> LinkPath:
        """Return the memberships by which a role inherits, the shortest way."""
        links: list[Link] = []
        at, step = role, onward[role]
        while step.through is not None:
            links.append(self._membership(at, step.through, step.membership))
            if step.depth > _MOST_LINKS:
                count, target = step.depth - 1, self._server.role(next(iter(onward)))
                return (links[0], further_links(links[0], target, count, Strength.DIRECT))
            at, step = step.through, onward[step.through]
        return tuple(links)

    def _membership(self, role: str, other: str, membership: RoleMembership | None) -> Link:
        if membership is not None:
            return membership_link(self._server, membership)
        owned = self._privileges.owner_of(("", "database", "", self._key[0]))
        because = f"owns database {self._key[0]}, and has the grants of {other} in it"
        place = owned.place if owned is not None else self._privileges.roles[role].place
        return self._server.link(role, self._server.role(other), LinkKind.HAS, By(Mechanism.OWNER), because, place)

    def _granted(self, grant: DatabaseGrant) -> Link:
        because = f"is granted {_what(grant)}" + (" with grant option" if grant.grantable else "")
        return self._server.link(grant.grantee, self._right, LinkKind.HAS, By(Mechanism.GRANT), because, grant.place)

    def _public(self, grant: DatabaseGrant) -> Iterator[Edge]:
        """Yield what everybody is granted: to everybody who may use the schema, and where not everybody may, to each who may."""
        anybody = Principal(kind=PrincipalKind.ANY_ACCOUNT, name="", subject=self._server.subject)
        link = Link(
            source=anybody,
            target=self._right,
            kind=LinkKind.HAS,
            strength=Strength.DIRECT if self._users is None else Strength.CONDITIONAL,
            by=By(Mechanism.PUBLIC),
            because=f"PUBLIC is granted {_what(grant)}",
            conditions=() if self._users is None else (self._condition,),
            place=grant.place,
        )
        yield Edge((link,))
        for name in sorted(self._users or ()):
            yield Edge((replace(link, source=self._server.role(name), strength=Strength.DIRECT, conditions=()),))


def _what(grant: DatabaseGrant) -> str:
    return f"{grant.privilege} on {grant.object_kind} {grant.name}" + (f", column {grant.column}" if grant.column else "")
