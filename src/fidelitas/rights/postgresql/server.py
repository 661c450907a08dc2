"""All rights on one server: links of memberships, attributes and predefined roles, followed to holdings; who may do what with an object."""

from collections.abc import Iterable, Iterator, Mapping, Sequence, Sized
from functools import cached_property
from itertools import islice

from fidelitas.facts import AccessRule, DatabaseFacts, DatabaseRole, RoleMembership
from fidelitas.rights.graph.links import By, Holding, Link, LinkKind, Mechanism, Principal, PrincipalKind, Right, RightKind
from fidelitas.rights.graph.paths import Edge
from fidelitas.rights.graph.routes import holdings_by, without_echoes
from fidelitas.rights.postgresql.functions import function_links
from fidelitas.rights.postgresql.identities import directory_accounts, mapped_accounts
from fidelitas.rights.postgresql.inheritance import Inheritance
from fidelitas.rights.postgresql.links import predefined
from fidelitas.rights.postgresql.login_paths import LoginPath, login_paths_of, replication_login_paths
from fidelitas.rights.postgresql.names import objects_named, shown_name, split_path
from fidelitas.rights.postgresql.objects import object_edges, privileges_on
from fidelitas.rights.postgresql.parameters import parameter_links
from fidelitas.rights.postgresql.privileges import OWNER_OF_DATABASE, Key, Privileges
from fidelitas.rights.postgresql.triggers import trigger_links
from fidelitas.rights.subject import DatabaseServer, Lack
from fidelitas.text import Place

__all__ = ["DatabaseRights", "database_rights_of"]

# Before this version CREATEROLE could give any role but superusers to anyone (release notes of PostgreSQL 16).
_BOUNDED_CREATE_ROLE = 160000
_BY_DIRECTORY = frozenset({"ldap", "gss", "sspi"})


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
        found = (without_echoes(holding) for holding in holdings_by(self._edges))
        return tuple(found)

    @property
    def own_holdings(self) -> tuple[Holding, ...]:
        """The holdings without those of the server's own roles, which hold what they are made for."""
        own = (holding for holding in self.holdings if not holding.principal.name.startswith("pg_"))
        return tuple(holding for holding in own if not self.by_host_alone(holding))

    def knows(self, holder: str) -> bool:
        """Return whether there is such a role, or another holder."""
        return holder in self.privileges.roles or self.knows_other(holder)

    def belongs_to(self, role: str) -> Iterable[str]:
        """Return the roles that a role was put into."""
        return self.privileges.put_into(role) - {role} if role in self.privileges.roles else ()

    def account_states(self) -> Mapping[str, bool | None]:
        """Return the roles but the server's own, each with whether it can log in."""
        return {role.name: role.login for role in self.facts.roles if not role.name.startswith("pg_")}

    def counts(self) -> Sequence[tuple[str, int]]:
        """Return how many rows were read."""
        facts = self.facts
        sizes: dict[str, Sized] = {"roles": facts.roles, "memberships": facts.memberships, "grants": facts.grants}
        sizes |= {"rules of access": facts.access or (), "open sessions": facts.sessions}
        return tuple((name, len(rows)) for name, rows in sizes.items())

    def login_paths(self, role: str) -> list[LoginPath]:
        """Return the ways in for a role."""
        return login_paths_of(self.facts, self.privileges, role)

    # -- links -------------------------------------------------------------------------------------------------------------------

    @cached_property
    def _edges(self) -> tuple[Edge, ...]:
        """Every step to a right on the whole server, and between roles."""
        return tuple(self._with_roads(list(self._to_rights())))

    def _to_rights(self) -> Iterator[Edge]:
        """Yield what attributes give, which only a session that became the role has, and what grants give, which heirs have, too."""
        for role in self.facts.roles:
            yield from (Edge((link,)) for link in self._attributes(role))
            if role.name in predefined():
                kind, because = predefined()[role.name]
                by = By(Mechanism.PREDEFINED_ROLE, role.name)
                yield from self._inherited(self.link(role.name, self.right(kind), LinkKind.HAS, by, because, role.place))
        for link in (*parameter_links(self, self.facts), *function_links(self, self.privileges), *trigger_links(self, self.privileges)):
            yield from self._inherited(link)

    def _inherited(self, last: Link) -> Iterator[Edge]:
        if last.source.kind is not PrincipalKind.ROLE:
            yield Edge((last,))
            return
        for _, before in Inheritance(self, self.privileges, "").heirs(last.source.name):
            yield Edge((*before, last))

    def _with_roads(self, found: Sequence[Edge]) -> list[Edge]:
        """Return edges to rights, and by which a session becomes a role that has one: of 20,000 memberships most lead to none."""
        makers = (role.name for role in self.facts.roles if role.create_role)
        leading = dict.fromkeys((*(edge.source.name for edge in found), *makers))
        agenda = list(leading)
        for role in agenda:
            further = [one.member for one in self._members.get(role, ()) if one.member not in leading]
            leading.update(dict.fromkeys(further))
            agenda += further
        between = (link for one in self.facts.memberships if one.role in leading for link in self._membership(one))
        edges = [Edge((link,)) for link in (*between, *self.from_host) if isinstance(link.target, Principal)]
        edges += found
        return [*edges, *self._given_by_create_role(edges)]

    @cached_property
    def _members(self) -> Mapping[str, Sequence[RoleMembership]]:
        """The memberships in each role."""
        found: dict[str, list[RoleMembership]] = {}
        for one in self.facts.memberships:
            found.setdefault(one.role, []).append(one)
        return found

    def _owner_of(self, database: str) -> Iterator[Edge]:
        """Yield that who owns a database may become pg_database_owner in it."""
        owner = self.privileges.owner_of_database(database)
        if owner and OWNER_OF_DATABASE in self.privileges.roles:
            because, place = (
                f"owns database {database}, and may become {OWNER_OF_DATABASE} in it (SET ROLE)",
                self.privileges.roles[owner].place,
            )
            yield Edge((self.link(owner, self.role(OWNER_OF_DATABASE), LinkKind.MAY_BECOME, By(Mechanism.OWNER), because, place),))

    def _membership(self, one: RoleMembership) -> Iterator[Link]:
        by = By(Mechanism.ROLE, one.role)
        if one.set:
            how = "has its grants, and may become it (SET ROLE)" if one.inherit else "may become it (SET ROLE)"
            yield self.link(one.member, self.role(one.role), LinkKind.MAY_BECOME, by, f"is a member of {one.role} and {how}", one.place)
        elif one.admin:
            because = f"may give membership in {one.role} to any role, including itself (ADMIN OPTION)"
            by = By(Mechanism.ADMIN_OPTION)
            yield self.link(one.member, self.role(one.role), LinkKind.MAY_GRANT, by, because, one.place, certain=True)

    def _given_by_create_role(self, edges: Sequence[Edge]) -> Iterator[Edge]:
        """Yield that before version 16 CREATEROLE gives any role but superusers to itself: for each right, one that has it.

        One is enough to know: who may give itself any role is not hindered by taking one of them away.
        """
        makers = [role for role in self.facts.roles if role.create_role and not role.superuser]
        if self.facts.version >= _BOUNDED_CREATE_ROLE or not makers:
            return
        because = "before version 16 CREATEROLE gives membership in any role that is not a superuser"
        for target in dict.fromkeys(self._nearest(edges)):
            for maker in makers:
                if maker.name != target.name:
                    by = By(Mechanism.CREATE_ROLE, target.name)
                    yield Edge((self.link(maker.name, target, LinkKind.MAY_GRANT, by, because, maker.place, certain=True),))

    def _nearest(self, edges: Sequence[Edge]) -> Iterator[Principal]:
        """Yield for each right the role, no superuser, that has it by the surest and shortest way; else one that may become a superuser."""
        superusers = {self.role(role.name) for role in self.facts.roles if role.superuser}
        given = [edge for edge in edges if edge.source.kind is PrincipalKind.ROLE and edge.source not in superusers]
        best: dict[Right, Edge] = {}
        for edge in given:
            if isinstance(edge.target, Right) and (edge.target not in best or _effort(edge) < _effort(best[edge.target])):
                best[edge.target] = edge
        yield from (edge.source for edge in best.values())
        yield from islice((edge.source for edge in given if edge.target in superusers), 1)

    def _attributes(self, role: DatabaseRole) -> Iterator[Link]:
        if role.superuser:
            by, right = By(Mechanism.ATTRIBUTE, "SUPERUSER"), self.right(RightKind.DB_SUPERUSER)
            yield self.link(role.name, right, LinkKind.HAS, by, "is a superuser", role.place)
            because, right = "a superuser runs programs of the server's host (COPY … FROM PROGRAM)", self.right(RightKind.DB_HOST_ESCAPE)
            yield self.link(role.name, right, LinkKind.HAS, by, because, role.place, certain=True)
        elif role.create_role:
            because, right = "makes roles, changes their passwords and gives memberships (CREATEROLE)", self.right(RightKind.DB_GRANT)
            yield self.link(role.name, right, LinkKind.HAS, By(Mechanism.ATTRIBUTE, "CREATEROLE"), because, role.place)
        if role.replication and not role.superuser:
            rules = list(replication_login_paths(self.facts, self.privileges, role.name))
            conditions = () if rules else ("if a rule of pg_hba.conf allows replication for the role",)
            because, right = (
                "streams the files of the whole server, password hashes among them (REPLICATION)",
                self.right(RightKind.DB_READ_ALL),
            )
            by = By(Mechanism.ATTRIBUTE, "REPLICATION")
            yield self.link(role.name, right, LinkKind.HAS, by, because, role.place, *conditions, certain=True)

    def socket_logins(self, known: Iterable[str]) -> Iterator[tuple[str, Principal, Place]]:
        """Yield the roles that accounts of the host get by the socket: ``peer``, by the same name or by a map of pg_ident.conf."""
        for role, rule in self._rules_of_roles(frozenset({"peer"})):
            if rule.type == "local":
                for account, place in mapped_accounts(self.facts, self.privileges, rule, role, known):
                    yield account, self.role(role), place

    @property
    def asks_directories(self) -> bool:
        """Whether a rule of access asks a directory."""
        return any(rule.method in _BY_DIRECTORY for rule in self.facts.access or ())

    def directory_logins(self, known: Mapping[str, str]) -> Iterator[tuple[str, Principal, str, Place]]:
        """Yield the roles that accounts of a directory get, by which method: with their password there, or by Kerberos."""
        for role, rule in self._rules_of_roles(_BY_DIRECTORY):
            for account, place in directory_accounts(self.facts, self.privileges, rule, role, known):
                yield account, self.role(role), rule.method, place

    def _rules_of_roles(self, methods: frozenset[str]) -> Iterator[tuple[str, AccessRule]]:
        if any(rule.method in methods for rule in self.facts.access or ()):
            for role in self.facts.roles:
                yield from ((role.name, path.rule) for path in self.login_paths(role.name) if path.rule.method in methods)

    # -- one object ----------------------------------------------------------------------------------------------------------------

    def on(self, path: str) -> Sequence[Holding]:
        """Return who may do what with an object of a database, or with the database itself; without the server's own roles."""
        found = (
            holding
            for key in objects_named(self.facts, *split_path(path))
            for holding in self._on_object(key)
            if not holding.principal.name.startswith("pg_")
        )
        return [holding for holding in found if not self.by_host_alone(holding)]

    def lacks(self, path: str) -> Lack | None:
        """Return why an object is not known; nothing where it is."""
        database, name = split_path(path)
        if objects_named(self.facts, database, name):
            return None
        unread = next((gap for gap in self.gaps if gap.place.path in (f"database {database}", f"listing objects {database}")), None)
        if unread is None:
            return super().lacks(path)
        return Lack(f'database "{database}" could not be read: {unread.why}; who may do what with {path} is not known', unread=True)

    def _on_object(self, key: Key) -> Iterator[Holding]:
        """Yield who has which privilege on an object, by which routes; superusers and predefined roles included."""
        edges = list(self._owner_of(key[0]))
        for privilege, column in privileges_on(self.privileges, key):
            words = privilege.lower() + (f"({column})" if column else "")
            edges += object_edges(self, self.privileges, key, privilege, column, self.right(RightKind.DB_OBJECT, words, shown_name(key)))
        yield from map(without_echoes, holdings_by(self._with_roads(edges)))


def _effort(edge: Edge) -> tuple[int, int]:
    return edge.strength, len(edge.links)


def database_rights_of(facts: DatabaseFacts) -> DatabaseRights:
    """Return all rights on a server."""
    return DatabaseRights(facts)
