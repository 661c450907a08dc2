"""The principals and rights of one host as nodes of its graph, and the links that memberships are.

Each is made once: the same node is asked for thousands of times.
"""

from collections.abc import Mapping

from fidelitas.facts import Place
from fidelitas.rights.accounts.nesting import Nesting
from fidelitas.rights.graph.group_edges import GroupEdge
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, Principal, PrincipalKind, Right, RightKind, Strength
from fidelitas.rights.graph.paths import LinkPath
from fidelitas.rights.linux.population import Identity, Membership

__all__ = ["Nodes"]


class Nodes:
    """The nodes of one host."""

    def __init__(self, subject: str, group_names: Mapping[int, str], nesting: Nesting | None) -> None:
        """`group_names` are the host's groups by number, `nesting` the memberships of the directory that it takes accounts from."""
        self.subject = subject
        self._group_names, self._nesting = group_names, nesting
        self._principals: dict[tuple[PrincipalKind, str], Principal] = {}
        self._groups: dict[int, Principal] = {}
        self._ways: dict[tuple[str, int], tuple[LinkPath, ...]] = {}
        self._anyone: dict[str, Link] = {}
        self.root = self.right(RightKind.ROOT)
        self.anyone = self.principal(PrincipalKind.ANY_ACCOUNT)

    def right(self, kind: RightKind, detail: str = "") -> Right:
        """Return a right on this host."""
        return Right(kind=kind, detail=detail, subject=self.subject)

    def principal(self, kind: PrincipalKind, name: str = "") -> Principal:
        """Return a principal that is of this host alone."""
        known = self._principals.get((kind, name))
        if known is None:
            known = self._principals[kind, name] = Principal(kind=kind, name=name, subject=self.subject)
        return known

    def account(self, who: Identity) -> Principal:
        """Return the principal that an account is; one of a directory is the same on every host."""
        nesting = self._nesting
        if who.of_directory and nesting is not None:
            return nesting.node(PrincipalKind.ACCOUNT, who.name)
        return self.principal(PrincipalKind.ACCOUNT, who.name)

    def group(self, gid: int) -> Principal:
        """Return the principal that a group is."""
        if gid not in self._groups:
            self._groups[gid] = self._group(self._group_names.get(gid, str(gid)), gid)
        return self._groups[gid]

    def _group(self, name: str, gid: int) -> Principal:
        nesting = self._nesting
        if nesting is not None and name in nesting.groups and nesting.groups[name].gid == gid:
            return nesting.node(PrincipalKind.GROUP, name)
        return self.principal(PrincipalKind.GROUP, name)

    def as_anyone(self, who: Identity, place: Place) -> Link:
        """Return the link from an account to "any account", which it is by being there."""
        if who.name not in self._anyone:
            self._anyone[who.name] = self.membership(who, self.anyone, "is an account of this host", place, Mechanism.ACCOUNT)
        return self._anyone[who.name]

    def ways_into(self, who: Identity, gid: int) -> tuple[LinkPath, ...]:
        """Return the chains of links by which an account is in a group: one, or as many as a directory's nesting gives."""
        key = (who.name, gid)
        if key not in self._ways:
            self._ways[key] = self._found(who, gid)
        return self._ways[key]

    def paths(self, who: Identity, edge: GroupEdge[Identity]) -> tuple[LinkPath, ...]:
        """Return the chains of links by which an account comes by what is lent."""
        if edge.gid is not None:
            return self.ways_into(who, edge.gid)
        return ((self.as_anyone(who, who.account.place),),) if who.account else ()

    def _found(self, who: Identity, gid: int) -> tuple[LinkPath, ...]:
        membership = who.by_group.get(gid)
        if membership is None and who.account is not None and who.gid == gid:  # an ID that no group has is in force all the same
            return ((self.membership(who, self.group(gid), f"{gid} is its primary group ID", who.account.place),),)
        if membership is None:
            return ()
        if membership.nested and self._nesting is not None:
            return self._nesting.ways(who.name, membership.group.name)
        return ((self._in_group(who, membership),),)

    def _in_group(self, who: Identity, membership: Membership) -> Link:
        group = membership.group
        because = f"has primary group {group.name}" if membership.primary else f"is in group {group.name}"
        return self.membership(who, self.group(group.gid), because, membership.place)

    def membership(self, who: Identity, group: Principal, because: str, place: Place, mechanism: Mechanism = Mechanism.MEMBERSHIP) -> Link:
        """Return the link from an account to what it is in."""
        return Link(
            source=self.account(who),
            target=group,
            kind=LinkKind.HAS,
            strength=Strength.DIRECT,
            by=By(mechanism),
            because=because,
            place=place,
        )
