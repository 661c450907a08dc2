"""All rights on one server: links of memberships, attributes and predefined roles, followed to holdings; who may do what with an object."""

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property

from fidelitas.facts import DatabaseFacts, DatabaseGrant, DatabaseRole, RoleMembership
from fidelitas.rights.graph.links import By, Holding, Link, LinkKind, Mechanism, Principal, RightKind
from fidelitas.rights.graph.paths import Edge
from fidelitas.rights.graph.routes import holdings_by
from fidelitas.rights.postgresql.links import membership_link, predefined
from fidelitas.rights.postgresql.login_paths import LoginPath, login_paths_of, replication_login_paths
from fidelitas.rights.postgresql.objects import object_edges, privileges_on
from fidelitas.rights.postgresql.privileges import Key, Privileges
from fidelitas.rights.subject import DatabaseServer
from fidelitas.text import Place

__all__ = ["DatabaseRights", "database_rights_of"]

# Before this version CREATEROLE could give any role but superusers to anybody (release notes of PostgreSQL 16).
_BOUNDED_CREATE_ROLE = 160000
# Parameters that name what the server runs or loads.
_PARAMETERS = frozenset({
    "archive_command", "archive_cleanup_command", "archive_library", "dynamic_library_path", "local_preload_libraries",
    "recovery_end_command", "restore_command", "session_preload_libraries", "shared_preload_libraries", "ssl_passphrase_command",
})  # fmt: skip


class DatabaseRights(DatabaseServer):
    """What the catalogue of a server amounts to."""

    platform = "postgresql"

    def __init__(self, facts: DatabaseFacts, from_host: tuple[Link, ...] = ()) -> None:
        super().__init__(facts.subject, facts.taken, facts.gaps, facts.host_name, from_host)
        self.facts = facts
        self.privileges = Privileges(facts)

    def joined_with(self, from_host: tuple[Link, ...]) -> "DatabaseRights":
        """Return the same server with links into it from the host that it runs on."""
        joined = DatabaseRights(self.facts, from_host)
        joined.troubles = self.troubles
        return joined

    @cached_property
    def holdings(self) -> tuple[Holding, ...]:
        """All holdings of roles, the furthest reaching rights first."""
        return holdings_by([Edge((link,)) for link in (*self._links(), *self.from_host)])

    @property
    def own_holdings(self) -> tuple[Holding, ...]:
        """The holdings without those of the server's own roles, which hold what they are made for."""
        own = (holding for holding in self.holdings if not holding.principal.name.startswith("pg_"))
        return tuple(holding for holding in own if not self.by_host_alone(holding))

    def knows(self, holder: str) -> bool:
        """Return whether there is such a role."""
        return holder in self.privileges.roles or self.knows_of_host(holder)

    def belongs_to(self, role: str) -> Iterable[str]:
        """Return the roles that a role was put into."""
        return self.privileges.put_into(role) - {role} if role in self.privileges.roles else ()

    def counts(self) -> Sequence[tuple[str, int]]:
        """Return how many rows were read."""
        facts = self.facts
        sizes = (facts.roles, facts.memberships, facts.grants, facts.access or (), facts.sessions)
        return tuple(zip(("roles", "memberships", "grants", "rules of access", "open sessions"), map(len, sizes), strict=True))

    def login_paths(self, role: str) -> list[LoginPath]:
        """Return the ways in for a role."""
        return login_paths_of(self.facts, self.privileges, role)

    # -- links -------------------------------------------------------------------------------------------------------------------

    def _links(self) -> Iterator[Link]:
        for membership in self.facts.memberships:
            yield from self._membership(membership)
        for role in self.facts.roles:
            yield from self._attributes(role)
            if role.name in predefined():
                kind, because = predefined()[role.name]
                yield self.link(role.name, self.right(kind), LinkKind.HAS, By(Mechanism.PREDEFINED_ROLE, role.name), because, role.place)

        for grant in self.facts.grants:
            yield from self._parameter(grant)

    def _parameter(self, grant: DatabaseGrant) -> Iterator[Link]:
        """Yield what setting a parameter amounts to that names a command or library of the host (GRANT … ON PARAMETER)."""
        if grant.object_kind == "parameter" and grant.name.lower() in _PARAMETERS and grant.grantee:
            because = f"may set {grant.name} ({grant.privilege}), which says what the server runs or loads on its host"
            right = self.right(RightKind.DB_HOST_ESCAPE)
            yield self.link(grant.grantee, right, LinkKind.HAS, By(Mechanism.PARAMETER, grant.name), because, grant.place, certain=True)

    def _membership(self, one: RoleMembership) -> Iterator[Link]:
        if one.set or self._granted_only(one):
            yield membership_link(self, one)
        elif one.admin:
            because = f"may give membership in {one.role} to any role, including itself (ADMIN OPTION)"
            by = By(Mechanism.ADMIN_OPTION)
            yield self.link(one.member, self.role(one.role), LinkKind.MAY_GRANT, by, because, one.place, certain=True)

    def _granted_only(self, one: RoleMembership) -> bool:
        """Return whether a membership that gives grants alone, and no attributes, leads to what a predefined role has."""
        reached = self.privileges.inherits(one.role)
        return one.inherit and bool(reached & predefined().keys()) and not any(self.privileges.is_superuser(name) for name in reached)

    def _attributes(self, role: DatabaseRole) -> Iterator[Link]:
        if role.superuser:
            yield self.link(
                role.name,
                self.right(RightKind.DB_SUPERUSER),
                LinkKind.HAS,
                By(Mechanism.ATTRIBUTE, "SUPERUSER"),
                "is a superuser",
                role.place,
            )
            because = "a superuser runs programs of the server's host (COPY … FROM PROGRAM)"
            yield self.link(
                role.name,
                self.right(RightKind.DB_HOST_ESCAPE),
                LinkKind.HAS,
                By(Mechanism.ATTRIBUTE, "SUPERUSER"),
                because,
                role.place,
                certain=True,
            )
        elif role.create_role:
            because = "makes roles, changes their passwords and gives memberships (CREATEROLE)"
            yield self.link(
                role.name, self.right(RightKind.DB_GRANT), LinkKind.HAS, By(Mechanism.ATTRIBUTE, "CREATEROLE"), because, role.place
            )
            if self.facts.version < _BOUNDED_CREATE_ROLE:
                yield from self._unbounded(role)
        if role.replication and not role.superuser:
            rules = list(replication_login_paths(self.facts, self.privileges, role.name))
            because = "streams the files of the whole server, password hashes among them (REPLICATION)"
            conditions = () if rules else ("if a rule of pg_hba.conf allows replication for the role",)
            yield self.link(
                role.name,
                self.right(RightKind.DB_READ_ALL),
                LinkKind.HAS,
                By(Mechanism.ATTRIBUTE, "REPLICATION"),
                because,
                role.place,
                *conditions,
                certain=True,
            )

    def _unbounded(self, role: DatabaseRole) -> Iterator[Link]:
        because = "before version 16 CREATEROLE gives membership in any role that is not a superuser"
        for name in predefined():
            if name in self.privileges.roles and name != role.name:
                yield self.link(
                    role.name, self.role(name), LinkKind.MAY_GRANT, By(Mechanism.CREATE_ROLE, name), because, role.place, certain=True
                )

    def socket_logins(self) -> Iterator[tuple[str, Principal, Place]]:
        """Yield the roles that an account of the host of the same name gets by the socket (``peer`` without a map)."""
        for role in self.facts.roles:
            for login_path in self.login_paths(role.name):
                if (
                    login_path.rule.type == "local"
                    and login_path.rule.method == "peer"
                    and not any(one.startswith("map=") for one in login_path.rule.options)
                ):
                    yield role.name, self.role(role.name), login_path.rule.place

    # -- one object ----------------------------------------------------------------------------------------------------------------

    def objects(self, database: str, name: str) -> list[Key]:
        """Return the tables, schemas or functions of a database that a name can mean: ``schema.table``, or ``table`` alone."""
        schema, _, rest = name.rpartition(".")
        keys = {(one.database, one.object_kind, one.schema, one.name) for one in self.facts.objects if one.database == database}
        return sorted(key for key in keys if key[3] == name or (key[3] == rest and key[2] in (schema, schema or key[2])))

    def on(self, database: str, name: str) -> Sequence[Holding]:
        """Return who may do what with an object of a database, or with the database itself; without the server's own roles."""
        keys = self.objects(database, name) if name else [("", "database", "", database)]
        found = (
            holding
            for key in keys
            for privilege in privileges_on(self.privileges, key)
            for holding in self.on_object(key, privilege)
            if not holding.principal.name.startswith("pg_")
        )
        return [holding for holding in found if not self.by_host_alone(holding)]

    def on_object(self, key: Key, privilege: str) -> tuple[Holding, ...]:
        """Return who has a privilege on an object, by which routes; superusers and predefined roles included."""
        right = self.right(RightKind.DB_OBJECT, privilege.lower(), f"{key[0]}/{key[2]}{'.' if key[2] else ''}{key[3]}")
        return holdings_by([*self._between_roles, *object_edges(self, self.privileges, key, privilege, right)])

    @cached_property
    def _between_roles(self) -> tuple[Edge, ...]:
        """The edges by which a session becomes another role; what a membership gives besides is the business of `objects`."""
        inherited_only = {(self.role(one.member), self.role(one.role)) for one in self.facts.memberships if not one.set and one.inherit}
        links = (link for link in (*self._links(), *self.from_host) if isinstance(link.target, Principal))
        return tuple(
            Edge((link,)) for link in links if link.mechanism is not Mechanism.ROLE or (link.source, link.target) not in inherited_only
        )


def database_rights_of(facts: DatabaseFacts) -> DatabaseRights:
    """Return all rights on a server."""
    return DatabaseRights(facts)
