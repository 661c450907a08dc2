"""Who may do what with one object of a PostgreSQL server: the ways of roles to a privilege, each as a session could take it.

What a role is granted and what it inherits are different steps from what it may become: a privilege is decided for it as a whole, as the
server does: the privilege and the use of the schema may come to it by different memberships, yet both must be had by the same role.  So
each role is a node; what it inherits is folded into the edge from it to the right, and edges between roles are those by which a session
becomes another role.
"""

from collections.abc import Iterator

from msgspec.structs import replace

from fidelitas.facts import DatabaseGrant, Place
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, Principal, PrincipalKind, Right, Strength
from fidelitas.rights.graph.paths import Edge
from fidelitas.rights.postgresql.inheritance import Inheritance
from fidelitas.rights.postgresql.privileges import DATA_ROLES, Key, Privileges, privileges_of
from fidelitas.rights.postgresql.rewrites import Opening, openings
from fidelitas.rights.subject import DatabaseServer

__all__ = ["object_edges", "privileges_on"]


def privileges_on(privileges: Privileges, key: Key) -> list[tuple[str, str]]:
    """Return the privileges on an object that someone can have, each with the column that it is about, or "" for the whole object."""
    whole = ((name, "") for name in privileges_of(key[1], privileges.facts.version))
    granted = ((grant.privilege, grant.column) for grant in privileges.grants_on(key))
    return list(dict.fromkeys((*whole, *granted)))


def object_edges(server: DatabaseServer, privileges: Privileges, key: Key, privilege: str, column: str, right: Right) -> Iterator[Edge]:
    """Yield the ways of roles to a privilege on an object, each from the role that a session acts as.

    On a column only what is granted on that column: who has the privilege on the whole table is told of the table.
    """
    return _Object(server, privileges, key, right, privilege).edges(column)


class _Object:
    def __init__(self, server: DatabaseServer, privileges: Privileges, key: Key, right: Right, privilege: str) -> None:
        self._server, self._privileges, self._key, self._right, self._privilege = server, privileges, key, right, privilege
        self._inheritance = Inheritance(server, privileges, key[0])
        self._users = privileges.schema_users(key)  # None where everyone may use its schema

    def edges(self, column: str) -> Iterator[Edge]:
        grants = [one for one in self._privileges.grants_on(self._key) if (one.privilege, one.column) == (self._privilege, column)]
        for grant in grants:
            yield from self._inherited(grant.grantee, self._granted(grant)) if grant.grantee else self._public(grant)
        if not column:
            yield from self._of_predefined()
            yield from self._of_superusers()
            yield from self._owner({grant.grantee for grant in grants})
            for opening in openings(self._privileges, self._key, self._privilege):
                yield from self._through(opening)

    def _of_predefined(self) -> Iterator[Edge]:
        for name in DATA_ROLES:
            role = self._privileges.roles.get(name)
            if role is not None and self._privileges.gives(name, self._key, self._privilege):
                by, because = By(Mechanism.PREDEFINED_ROLE, name), f"has {self._privilege} on every {self._key[1]}"
                yield from self._inherited(name, self._server.link(name, self._right, LinkKind.HAS, by, because, role.place))

    def _of_superusers(self) -> Iterator[Edge]:
        for role in self._privileges.roles.values():
            if role.superuser:
                because, by = "no privilege is checked for a superuser", By(Mechanism.ATTRIBUTE, "SUPERUSER")
                yield Edge((self._server.link(role.name, self._right, LinkKind.HAS, by, because, role.place),))

    def _owner(self, grantees: set[str]) -> Iterator[Edge]:
        """Yield that the owner, who was not granted the privilege or lost it, may grant it to itself."""
        found = self._privileges.owner_of(self._key)
        if found is not None and found.owner not in grantees:
            because = f"owns {self._key[1]} {self._key[3]}, and may grant itself any privilege on it"
            by = By(Mechanism.OWNER)
            link = self._server.link(found.owner, self._right, LinkKind.MAY_GRANT, by, because, found.place, certain=True)
            yield from self._inherited(found.owner, link)

    def _through(self, opening: Opening) -> Iterator[Edge]:
        """Yield the ways of roles that have no such privilege themselves, through views and rules that act as their owner."""
        grants = [one for one in self._privileges.grants_on(opening.key) if one.privilege == opening.privilege]
        users = self._privileges.schema_users(opening.key)
        for grantee, grant in {one.grantee: one for one in reversed(grants)}.items():
            link = self._opened(opening, grantee, grant.place)
            if not grantee and users is None:
                yield Edge((link,))
            heirs = self._inheritance.heirs(grantee) if grantee else ((name, ()) for name in sorted(users or ()))
            for role, before in heirs:
                has = self._privileges.has(role, self._key, self._privilege) and (self._users is None or role in self._users)
                if not has and (users is None or role in users):
                    yield Edge((*before, link if grantee else replace(link, source=self._server.role(role))))

    def _opened(self, opening: Opening, grantee: str, place: Place) -> Link:
        outer, last = opening.rewrites[0], opening.rewrites[-1]
        what, mechanism = ("view", Mechanism.VIEW) if last.event == "1" else ("rule", Mechanism.RULE)
        on = f"{outer.schema}.{outer.name}"
        return Link(
            source=self._server.role(grantee)
            if grantee
            else Principal(kind=PrincipalKind.ANY_ACCOUNT, name="", subject=self._server.subject),
            target=self._right,
            kind=LinkKind.MAY_BECOME,
            strength=Strength.CONDITIONAL,
            by=By(mechanism, on),
            because=f"may {opening.privilege} {opening}, which reaches {self._key[3]} with the rights of its owner {last.owner}",
            conditions=(f"as far as the {what} goes",),
            place=place,
        )

    def _inherited(self, grantee: str, last: Link) -> Iterator[Edge]:
        """Yield the ways of the roles that inherit what a role has; an edge is only sure for a role that may use the schema."""
        for role, before in self._inheritance.heirs(grantee):
            link = self._limited(role, last)
            if self._users is not None and role not in self._users:
                link = replace(link, strength=Strength.CONDITIONAL, conditions=(self._condition,))
            yield Edge((*before, link))

    def _limited(self, role: str, link: Link) -> Link:
        """Return the link with what row security says of it."""
        rows = self._privileges.rows_of(role, self._key, self._privilege)
        return replace(link, because=f"{link.because}; {rows}") if rows else link

    @property
    def _condition(self) -> str:
        return f"if the role may use schema {self._key[2]}"

    def _granted(self, grant: DatabaseGrant) -> Link:
        because = f"is granted {_what(grant)}" + (" with grant option" if grant.grantable else "")
        return self._server.link(grant.grantee, self._right, LinkKind.HAS, By(Mechanism.GRANT), because, grant.place)

    def _public(self, grant: DatabaseGrant) -> Iterator[Edge]:
        """Yield what everyone is granted: to everyone who may use the schema, and where not everyone may, to each who may."""
        anyone = Principal(kind=PrincipalKind.ANY_ACCOUNT, name="", subject=self._server.subject)
        link = Link(
            source=anyone,
            target=self._right,
            kind=LinkKind.HAS,
            strength=Strength.DIRECT if self._users is None else Strength.CONDITIONAL,
            by=By(Mechanism.PUBLIC),
            because=f"PUBLIC is granted {_what(grant)}",
            conditions=() if self._users is None else (self._condition,),
            place=grant.place,
        )
        yield Edge((self._limited("", link),))
        for name in sorted(self._users or ()):
            mine = replace(link, source=self._server.role(name), strength=Strength.DIRECT, conditions=())
            yield Edge((self._limited(name, mine),))


def _what(grant: DatabaseGrant) -> str:
    return f"{grant.privilege} on {grant.object_kind} {grant.name}" + (f", column {grant.column}" if grant.column else "")
