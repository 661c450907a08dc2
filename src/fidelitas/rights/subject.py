"""The one face of a subject: what reports, findings, people and comparisons ask of the rights on a host, a machine, a server, a directory.

Knows no platform.  A platform's rights are a class of its own that fulfils `SubjectRights`; `platform` names its row in the table of
platforms.  What a subject learns of others when all are joined is given to it by `joined_with`, which returns another subject.
"""

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from functools import cached_property
from typing import ClassVar, NamedTuple, Protocol, TypeVar

from fidelitas.facts import AuthorizedKey, FileState, Gap, Programs
from fidelitas.rights.accounts.identity import AccountInBrief, Identity
from fidelitas.rights.graph.full_control import COUNTED, FullControl, full_control_by
from fidelitas.rights.graph.links import By, Holding, Link, LinkKind, Mechanism, Principal, PrincipalKind, Right, RightKind, Strength
from fidelitas.text import Place

__all__ = ["DatabaseServer", "Lack", "RowSubject", "SubjectRights", "UnreadSubject", "known_names", "marked"]


T = TypeVar("T")


class Lack(NamedTuple):
    """Why an object is not known; `unread` where it may be there, and was not read."""

    why: str
    unread: bool = False


class SubjectRights(ABC):
    """The rights on one subject, taken at a time."""

    platform: ClassVar[str] = ""
    # What an account of another subject holds here, once all are joined.
    from_elsewhere: tuple[Holding, ...] = ()

    def __init__(self) -> None:
        self.troubles: list[Gap] = []  # what went wrong while it was judged, or was too much

    # -- what was taken ------------------------------------------------------------------------------------------------------------

    @property
    @abstractmethod
    def subject(self) -> str:
        """Its name in the estate."""

    @property
    @abstractmethod
    def taken(self) -> datetime:
        """When its evidence was taken."""

    @property
    def taken_by(self) -> int | None:
        """The user ID that its evidence was taken with; ``None`` where that is not a user ID."""
        return None

    @property
    def live(self) -> bool:
        """Whether it was running, and not a root folder."""
        return True

    @property
    @abstractmethod
    def gaps(self) -> tuple[Gap, ...]:
        """Everything that could not be read."""

    @property
    def gap_count(self) -> int:
        """How many there are: asked of thousands of subjects, of which few gaps are looked at."""
        return len(self.gaps)

    @property
    def fatal_gaps(self) -> Sequence[Gap]:
        """Those by which the subject was lost as a whole, or a check on it."""
        return [gap for gap in self.gaps if gap.fatal]

    def counts(self) -> Sequence[tuple[str, int]]:
        """Return what was read, and how many rows of it; nothing of a subject that is read by files."""
        return ()

    @property
    def files(self) -> Sequence[FileState]:
        """The files that were looked at; none of a subject that is read by rows."""
        return ()

    @property
    def programs(self) -> Programs | None:
        """The search for programs that run with more rights than their caller's, where there was one."""
        return None

    # -- equal subjects ------------------------------------------------------------------------------------------------------------

    @property
    def like(self) -> "SubjectRights":
        """The subject that this one is told from: itself, unless it states what another does."""
        return self

    @property
    def conclusion_mark(self) -> object:
        """A mark: subjects with equal ones have equal holdings, accounts, gaps and findings of their own; ``None`` equals nothing."""
        return None

    def attempt(self) -> None:
        """Work out what may fail unexpectedly, so that it fails where it costs this subject alone."""
        self.holdings  # noqa: B018

    # -- who holds what ------------------------------------------------------------------------------------------------------------

    @property
    @abstractmethod
    def holdings(self) -> tuple[Holding, ...]:
        """All holdings, the furthest reaching rights first."""

    @property
    def own_holdings(self) -> tuple[Holding, ...]:
        """The holdings that a reader wants to see unasked."""
        return self.holdings

    def differing(self, other: "SubjectRights") -> tuple[Sequence[Holding], Sequence[Holding]]:
        """Return the own holdings, and those of the same subject at another time; without such as are known to be alike."""
        return self.own_holdings, other.own_holdings

    def holdings_of(self, holder: str) -> tuple[Holding, ...]:
        """Return those of all holdings whose holder is meant by a name."""
        return tuple(filter(self._of(holder), self.holdings))

    def own_holdings_with(self, wanted: Callable[[Right], bool]) -> tuple[Holding, ...]:
        """Return those of the own holdings whose right is wanted."""
        return tuple(holding for holding in self.own_holdings if wanted(holding.right))

    def own_holdings_of(self, holder: str) -> tuple[Holding, ...]:
        """Return those of the own holdings whose holder is called so."""
        return tuple(filter(self._of(holder), self.own_holdings))

    def own_holders(self) -> set[str]:
        """Return the holders of the own holdings, as they are written."""
        return {str(holding.principal) for holding in self.own_holdings}

    def own_rights(self) -> set[Right]:
        """Return the rights of the own holdings."""
        return {holding.right for holding in self.own_holdings}

    def full_holders(self, kind: PrincipalKind) -> set[str]:
        """Return the names of the holders of one kind that have full control in a way of their own."""
        held = self.own_holdings_with(lambda right: right.kind.full)
        return {holding.principal.name for holding in held if holding.principal.kind is kind}

    @property
    def full_control(self) -> FullControl:
        """Who has full control of it, and who can obtain that."""
        return self._full_control_now()

    def _full_control_now(self) -> FullControl:
        return full_control_by(self.own_holdings_with(lambda right: right.kind.full))

    def held_by(self, name: str) -> tuple[Holding, ...]:
        """Return what an account, group or role holds."""
        return tuple(filter(self._of(name), self.holdings))

    def own_held_by(self, name: str) -> tuple[Holding, ...]:
        """Return those of what an account, group or role holds that are own holdings."""
        return tuple(holding for holding in self.held_by(name) if (holding.principal, holding.right) in self._own_pairs)

    @cached_property
    def _own_pairs(self) -> frozenset[tuple[Principal, Right]]:
        return frozenset((holding.principal, holding.right) for holding in self.own_holdings)

    def _of(self, holder: str) -> Callable[[Holding], bool]:
        meant = self.means(holder)
        return lambda holding: meant(holding.principal)

    def has_account(self, principal: Principal) -> bool:
        """Return whether a holder is an account or role that is listed among those of the subject."""
        return principal.kind in COUNTED and principal.subject == self.subject

    def furthest_of_accounts(self) -> Mapping[str, Holding]:
        """Return the furthest reaching of the own holdings of each of its accounts and roles that has any, by name."""
        found: dict[str, Holding] = {}
        for holding in self.own_holdings:
            if self.has_account(holding.principal):
                found.setdefault(holding.principal.name, holding)
        return found

    @abstractmethod
    def knows(self, holder: str) -> bool:
        """Return whether there is such an account, role or group (written ``%name``), or such another holder."""

    def means(self, holder: str) -> Callable[[Principal], bool]:
        """Return what says of a holder of the subject whether a name means it."""
        return lambda one: one.is_called(holder)

    # Whether an account can be meant by a name that is not its own.
    has_further_names: ClassVar[bool] = False

    def meant_by(self, holder: str) -> list[str]:
        """Return what those are called that a name can mean: several where it is the name of more than one account."""
        return [holder] if self.knows(holder) else []

    def holder(self, account: str) -> Principal:
        """Return an account as a holder, with all its names: by what it is called here."""
        return self._accounts_that_hold.get(account) or Principal(kind=PrincipalKind.ACCOUNT, name=account, subject=self.subject)

    @cached_property
    def _accounts_that_hold(self) -> Mapping[str, Principal]:
        own = (held.principal for held in self.own_holdings if held.principal.kind in (PrincipalKind.ACCOUNT, PrincipalKind.ROLE))
        return {principal.name: principal for principal in own}

    def accounts_meant(self, name: str) -> list[str]:
        """Return the accounts that a name can mean; the name itself where it means none, so that who is asked about it says so."""
        return [one for one in self.meant_by(name) if not one.startswith("%")] or [name]

    def names(self) -> set[str]:
        """Return what can be asked for as a holder: accounts and groups, and anyone who holds a right."""
        return self.own_holders()

    def belongs_to(self, name: str) -> Iterable[str]:
        """Return the groups or roles that an account is in, a group as ``%name``."""
        return ()

    def identity(self, principal: Principal) -> Identity | None:
        """Return the account of a host behind a holder, if it is one."""
        return None

    def in_brief(self, principal: Principal) -> AccountInBrief | None:
        """Return what a list of holders shows of the account of a host behind a holder, if it is one."""
        who = self.identity(principal)
        return None if who is None else who.in_brief

    def account_states(self) -> Mapping[str, bool | None]:
        """Return the subject's own accounts, each with whether someone can log in by it; ``None`` where that is not known."""
        return {}

    @property
    def opening_keys(self) -> Iterator[tuple[str, AuthorizedKey]]:
        """The keys that open accounts here, each with the account's name."""
        return iter(())

    def person_accounts(self) -> Iterator[tuple[str, str]]:
        """Yield the accounts that a person may be behind, each with its comment; on a server all that hold anything."""
        mine = (held.principal for held in self.own_holdings if held.principal.kind in (PrincipalKind.ACCOUNT, PrincipalKind.ROLE))
        return ((name, "") for name in dict.fromkeys(principal.name for principal in mine))

    def comments(self) -> Iterator[tuple[str, str]]:
        """Yield every account that can have a comment, with it."""
        return iter(())

    def on(self, path: str) -> Sequence[Holding]:
        """Return who may do what with an object, ``DATABASE/OBJECT``, or with a database; nothing if it is unknown."""
        return ()

    def lacks(self, path: str) -> "Lack | None":
        """Return why an object is not known; nothing where it is."""
        return None if self.on(path) else Lack(f'{self.subject} has no database or object "{path}" that is in evidence')


class RowSubject(SubjectRights):
    """A subject that is read by rows or objects: a server, a directory, a Windows machine."""

    def __init__(self, subject: str, taken: datetime, gaps: tuple[Gap, ...]) -> None:
        super().__init__()
        self._subject, self._taken, self._gaps = subject, taken, gaps

    @property
    def subject(self) -> str:
        """Its name in the estate."""
        return self._subject

    @property
    def taken(self) -> datetime:
        """When its evidence was taken."""
        return self._taken

    @property
    def gaps(self) -> tuple[Gap, ...]:
        """Everything that could not be read."""
        return (*self._gaps, *self.troubles)

    def right(self, kind: RightKind, detail: str = "", on: str | None = None) -> Right:
        """Return a right on it."""
        return Right(kind=kind, detail=detail, on=on, subject=self.subject)


class DatabaseServer(RowSubject):
    """A database server, of whatever make; `from_host` are links into it from accounts of the host that it runs on."""

    def __init__(self, subject: str, taken: datetime, gaps: tuple[Gap, ...], host_name: str | None, from_host: tuple[Link, ...]) -> None:
        super().__init__(subject, taken, gaps)
        self.host_name, self.from_host = host_name, from_host

    @abstractmethod
    def joined_with(self, from_host: tuple[Link, ...]) -> "DatabaseServer":
        """Return the same server with links into it from the host that it runs on."""

    @abstractmethod
    def socket_logins(self, known: Iterable[str]) -> Iterator[tuple[str, Principal, Place]]:
        """Yield the accounts of the host that the server accepts by its socket: the account, what it is here, and where that is stated.

        Expressions that name accounts are tried with those that are `known`.
        """

    @property
    def asks_directories(self) -> bool:
        """Whether accounts of directories may be let in."""
        return False

    def directory_logins(self, known: Mapping[str, str]) -> Iterator[tuple[str, Principal, str, Place]]:
        """Yield the accounts of a directory, of those whose DN is known, that the server accepts, what each is here, and how."""
        del known
        yield from ()

    @property
    def own_holdings(self) -> tuple[Holding, ...]:
        """The holdings without those that come by way of the host alone: the account that has a login there stands for them."""
        return tuple(holding for holding in self.holdings if not self.by_host_alone(holding))

    def by_host_alone(self, holding: Holding) -> bool:
        """Return whether someone holds it who may become, on the host, the account that the server accepts by its socket."""
        return all(route.links[0].mechanism is Mechanism.HOST for route in holding.routes)

    def knows_other(self, holder: str) -> bool:
        """Return whether an account of the host that leads into the server is called so, or "any account", where that holds something."""
        if holder == PrincipalKind.ANY_ACCOUNT.value:
            return bool(self.holdings_of(holder))
        return any(link.source.is_called(holder) for link in self.from_host)

    def role(self, name: str) -> Principal:
        """Return a role or account as a holder."""
        return Principal(kind=PrincipalKind.ROLE, name=name, subject=self.subject)

    def link(
        self,
        source: str,
        target: Principal | Right,
        kind: LinkKind,
        by: By,
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
            by=by,
            because=because,
            conditions=conditions,
            place=place,
        )


class UnreadSubject(RowSubject):
    """A subject of which nothing could be made but a gap."""

    holdings: tuple[Holding, ...] = ()

    def knows(self, holder: str) -> bool:
        """Return that no holder is known."""
        return False


class _Named(Protocol):
    @property
    def conclusion_mark(self) -> object: ...
    def names(self) -> Iterable[str]: ...


_M = TypeVar("_M", bound=_Named)


def marked(subjects: Iterable[_M]) -> Iterator[tuple[object, _M]]:
    """Yield subjects, each with its mark, or where it has none with one that no other has."""
    for number, one in enumerate(subjects):
        mark = one.conclusion_mark
        yield (number if mark is None else mark), one


def known_names(subjects: Iterable[_Named]) -> set[str]:
    """Return what can be asked for as a holder on some subjects; those that state the same are asked once."""
    names: set[str] = set()
    met: set[object] = set()
    for mark, subject in marked(subjects):
        if mark not in met:
            met.add(mark)
            names.update(subject.names())
    return names
