"""How what one role has comes to others: by inheriting it, as links (PostgreSQL manual, 22.3 Role Membership)."""

from collections.abc import Iterator, Mapping

from fidelitas.facts import RoleMembership
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, Strength
from fidelitas.rights.graph.paths import LinkPath, further_links
from fidelitas.rights.postgresql.privileges import Inherited, Privileges
from fidelitas.rights.subject import DatabaseServer

__all__ = ["Inheritance"]

# Longer chains of memberships are shown by their first link and how many follow: no honest nesting is as deep.
_MOST_LINKS = 100


class Inheritance:
    """Who inherits in one database; in none, with "" for its name."""

    def __init__(self, server: DatabaseServer, privileges: Privileges, database: str) -> None:
        self._server, self._privileges, self._database = server, privileges, database

    def heirs(self, role: str) -> Iterator[tuple[str, LinkPath]]:
        """Yield every role that has what is granted to one, itself first, with the memberships by which it has it, the shortest way."""
        onward = self._privileges.inheriting(role, self._database)
        for name in onward:
            yield name, self._memberships(name, onward)

    def _memberships(self, role: str, onward: Mapping[str, Inherited]) -> LinkPath:
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
            because = f"is a member of {other} and has its grants"
            return self._server.link(role, self._server.role(other), LinkKind.HAS, By(Mechanism.ROLE, other), because, membership.place)
        owned = self._privileges.owner_of(("", "database", "", self._database))
        because = f"owns database {self._database}, and has the grants of {other} in it"
        place = owned.place if owned is not None else self._privileges.roles[role].place
        return self._server.link(role, self._server.role(other), LinkKind.HAS, By(Mechanism.OWNER), because, place)
