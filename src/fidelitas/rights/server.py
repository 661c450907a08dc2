"""What reports ask of the rights on a database server, of whatever make."""

from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from typing import ClassVar

from fidelitas.facts import Gap
from fidelitas.rights.graph.links import Holding, Link, LinkKind, Principal, PrincipalKind, Right, RightKind, Strength
from fidelitas.text import Place

__all__ = ["ServerRights", "UnreadServer"]


class ServerRights(ABC):
    """The rights on one database server, taken at a time; `platform` is the name of its row in the table of platforms."""

    platform: ClassVar[str] = ""

    def __init__(self, subject: str, taken: datetime, gaps: tuple[Gap, ...]) -> None:
        self.subject, self.taken, self._gaps = subject, taken, gaps
        self.troubles: list[Gap] = []  # what went wrong unexpectedly while it was judged
        self.host_name = ""  # of the host that it runs on, where the server tells
        self.from_host: tuple[Link, ...] = ()  # from accounts of that host, once it is known

    @property
    def gaps(self) -> tuple[Gap, ...]:
        """Everything that could not be read."""
        return (*self._gaps, *self.troubles)

    @property
    @abstractmethod
    def holdings(self) -> tuple[Holding, ...]:
        """All holdings of roles, the furthest reaching rights first."""

    @property
    def own_holdings(self) -> tuple[Holding, ...]:
        """The holdings that a reader wants to see unasked: an account of the host with a way in stands for whoever may become it there."""
        return tuple(holding for holding in self.holdings if not self.by_host_alone(holding))

    def by_host_alone(self, holding: Holding) -> bool:
        """Return whether a holding is one of somebody who may become, on the host, the account that the server lets in by its socket."""
        return all(route.links[0].way == "host" for route in holding.routes)

    def knows_of_host(self, holder: str) -> bool:
        """Return whether an account of the host that leads into the server is called so."""
        return any(link.source.is_called(holder) for link in self.from_host)

    def held_by(self, role: str) -> tuple[Holding, ...]:
        """Return what a role holds."""
        return tuple(holding for holding in self.holdings if holding.principal.is_called(role))

    @abstractmethod
    def knows(self, holder: str) -> bool:
        """Return whether there is such a role or account."""

    @abstractmethod
    def describe(self, principal: Principal) -> str:
        """Return what a holder is, in a few words."""

    @abstractmethod
    def belongs_to(self, role: str) -> Iterable[str]:
        """Return the roles that a role or account is a member of."""

    @abstractmethod
    def about(self, role: str) -> Sequence[str]:
        """Return lines about a role or account: what it is, and how it gets in."""

    @abstractmethod
    def head(self) -> Sequence[str]:
        """Return lines about the server."""

    @abstractmethod
    def counts(self) -> Sequence[tuple[str, int]]:
        """Return what was read, and how many rows of it."""

    def socket_logins(self) -> Iterator[tuple[str, Principal, Place]]:
        """Yield the accounts of the host that the server lets in by its socket: the account, what it is here, and where that is stated."""
        return iter(())

    def on(self, database: str, name: str) -> Sequence[Holding]:
        """Return who may do what with an object of a database, with the database itself without a name; nothing if it is unknown."""
        return ()

    def role(self, name: str) -> Principal:
        """Return a role or account as a holder."""
        return Principal(kind=PrincipalKind.ROLE, name=name, subject=self.subject)

    def right(self, kind: RightKind, detail: str = "") -> Right:
        """Return a right on the server."""
        return Right(kind=kind, detail=detail, subject=self.subject)

    def link(
        self,
        source: str,
        target: Principal | Right,
        kind: LinkKind,
        way: str,
        because: str,
        place: Place,
        *conditions: str,
        certain: bool = False,
    ) -> Link:
        """Return a link from a role or account."""
        return Link(
            source=self.role(source),
            target=target,
            kind=kind,
            strength=Strength.CONDITIONAL if conditions else Strength.CERTAIN if certain else Strength.DIRECT,
            way=way,
            because=because,
            conditions=conditions,
            place=place,
        )


class UnreadServer(ServerRights):
    """A server, directory or machine of which nothing could be made but a gap."""

    holdings: tuple[Holding, ...] = ()

    def knows(self, holder: str) -> bool:
        """Return that no role is known."""
        return False

    def describe(self, principal: Principal) -> str:
        """Return nothing."""
        return ""

    def belongs_to(self, role: str) -> Iterable[str]:
        """Return nothing."""
        return ()

    def about(self, role: str) -> Sequence[str]:
        """Return nothing."""
        return ()

    def head(self) -> Sequence[str]:
        """Return that it was not read."""
        return ("could not be read",)

    def counts(self) -> Sequence[tuple[str, int]]:
        """Return nothing."""
        return ()
