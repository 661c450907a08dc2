"""A host that was judged before: it answers from what was kept of that, and judges its evidence where that does not say.

Nothing is decided here.  Each answer is one that the judged host gave, or the judged host is asked now.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from copy import copy
from datetime import datetime
from functools import cached_property
from itertools import chain
from typing import Protocol, TypeVar, cast

from fidelitas.conclusions.holders import KeptHolders
from fidelitas.conclusions.typed import Conclusion, Share
from fidelitas.facts import AuthorizedKey, FileState, Gap, HostFacts, PrivateKey, Programs
from fidelitas.rights import Holding, HostRights, Identity, Population, Principal, SubjectRights
from fidelitas.rights.accounts.identity import AccountInBrief, AccountWithGroups
from fidelitas.rights.estate.renaming import renamed
from fidelitas.rights.graph.full_control import FullControl
from fidelitas.rights.graph.group_edges import GroupEdges
from fidelitas.rights.graph.routes import order_of
from fidelitas.rights.linux.host import is_own
from fidelitas.rights.linux.ssh import KeyGrant
from fidelitas.rights.linux.sudo import Effective, Policy
from fidelitas.rights.linux.summary import HostSummary

__all__ = ["Memory", "RememberedHost"]

T = TypeVar("T")


class Memory(Protocol):
    """What a remembered host is answered from."""

    def holdings_of(self, like: bytes, holder: str, /) -> tuple[Holding, ...] | None:
        """Return what a holder holds on the host of a key, or ``None`` where that is not kept."""

    def in_brief(self, like: bytes, principal: Principal, /) -> AccountInBrief | None:
        """Return what a list of holders shows of a holder that was asked about on the host of a key; raises `KeyError` of another."""

    def called(self, like: bytes, holder: str, /, *, alike: bool) -> Sequence[str] | None:
        """Return whom a host takes of a directory that a name can mean, or ``None`` where that is not kept."""

    def full_control_of(self, like: bytes, /) -> FullControl | None:
        """Return who has full control of the host of a key, or ``None`` where that is not kept."""

    def note_full_control(self, like: bytes, found: FullControl, /) -> None:
        """Keep that."""

    def holders_of(self, like: bytes, /) -> KeptHolders | None:
        """Return who holds what on the host of a key, or ``None`` where that is not kept."""

    def note_judged(self, host: "RememberedHost", /) -> None:
        """Hold that a host was judged again: of many hosts the first are to forget it."""


class RememberedHost(HostRights):
    """A Linux host by what was kept of it; `judge` judges it."""

    def __init__(
        self, subject: str, taken: datetime, share: Share, conclusion: Conclusion, memory: Memory, judge: Callable[[], HostRights]
    ) -> None:
        SubjectRights.__init__(self)
        self._subject, self._taken = subject, taken
        self._share, self.conclusion, self._memory, self._judge = share, conclusion, memory, judge
        self.twin: RememberedHost = self  # the first of those that state the same

    def attempt(self) -> None:
        """Do nothing: it was worked out before."""

    # -- what was kept -----------------------------------------------------------------------------------------------------------

    @property
    def key(self) -> bytes:
        """The key of the host that this one states the same as."""
        return self._share.like

    @property
    def subject(self) -> str:
        """The host."""
        return self._subject

    @property
    def host_name(self) -> str:
        """What the host calls itself."""
        return self._share.host_name

    @property
    def taken(self) -> datetime:
        """When its evidence was taken."""
        return self._taken

    @property
    def taken_by(self) -> int | None:
        """The user ID that its evidence was taken with."""
        return self.conclusion.taken_by

    @property
    def live(self) -> bool:
        """Whether it was running, and not a root folder."""
        return self.conclusion.live

    @property
    def gaps(self) -> tuple[Gap, ...]:
        """Everything that could not be read."""
        return (*self._gaps_here, *self.troubles)

    @cached_property
    def _gaps_here(self) -> tuple[Gap, ...]:
        return self._as_here(self.conclusion.gaps)

    @property
    def gap_count(self) -> int:
        """How many there are."""
        return len(self.conclusion.gaps) + len(self.troubles)

    @property
    def fatal_gaps(self) -> Sequence[Gap]:
        """Those by which the host was lost as a whole, or a check on it."""
        return super().fatal_gaps if self.troubles or any(gap.fatal for gap in self.conclusion.gaps) else ()

    @property
    def conclusion_mark(self) -> object:
        """Its key, and what comes from other hosts; ``None`` where something went wrong since."""
        return None if self.troubles else (self.key, self.from_elsewhere)

    def account_states(self) -> Mapping[str, bool | None]:
        """Return its own accounts, each with whether someone can log in by it."""
        return self.conclusion.accounts

    @cached_property
    def summary(self) -> HostSummary:
        """What joining it with other hosts takes."""
        kept = self.conclusion.summary
        kept = self._as_here(kept) if kept.names_places else kept
        return HostSummary(subject=self.subject, host_name=self.host_name, hosts_named=kept.hosts_named, uses=kept.uses, halves=kept.halves)

    @property
    def like(self) -> "HostRights":
        """The host that this one is told from."""
        return self.twin

    def knows(self, holder: str) -> bool:
        """Return whether there is such an account, or such a group (written ``%name``), or such another holder."""
        return holder in self.conclusion.names or bool(self.meant_by(holder))

    def meant_by(self, holder: str) -> list[str]:
        """Return what those are called here that a name can mean."""
        own = [holder] if holder in self.conclusion.names else []
        called = self._memory.called(self.key, holder, alike=not own)
        if called is None:
            return self.judged.meant_by(holder)
        taken = (name for name in called if name not in self.conclusion.accounts)  # its own are in the place of those
        return list(dict.fromkeys([*own, *taken])) or ([holder] if self.holdings_of(holder) else [])

    def taken_from(self, directory: str, name: str) -> list[str]:
        """Return the accounts here that come from a directory and can be meant by a name."""
        kept = self._kept
        if kept is None:
            return self.judged.taken_from(directory, name)
        return [account for account in kept.taken_from(directory, name) if account not in self.conclusion.accounts]

    @property
    def _kept(self) -> KeptHolders | None:
        return self._memory.holders_of(self.key)

    @property
    def by_node(self) -> tuple[Holding, ...]:
        """The holdings worked out one by one."""
        kept = self._kept
        return self.judged.by_node if kept is None else self._as_here(kept.by_node)

    @property
    def group_edges(self) -> GroupEdges[Identity]:
        """The holdings that accounts have by their groups alone."""
        kept = self._kept
        return self.judged.group_edges if kept is None else cast(GroupEdges[Identity], kept.group_edges.renamed(self._as_here))

    def has_account(self, principal: Principal) -> bool:
        """Return whether a holder is an account of it, its own or one that it takes from a directory."""
        is_own = principal.name in self.conclusion.accounts
        return is_own is (principal.subject == self.subject) and self.in_brief(principal) is not None

    def holdings_of(self, holder: str) -> tuple[Holding, ...]:
        """Return those of all holdings whose holder is called so."""
        known = self._memory.holdings_of(self.key, holder)
        if known is None:
            return self.judged.holdings_of(holder)
        here = self._as_here(known)
        elsewhere = [holding for holding in self.from_elsewhere if holding.principal.is_called(holder)]
        return tuple(sorted((*here, *elsewhere), key=order_of)) if elsewhere else here

    @property
    def full_control(self) -> FullControl:
        """Who has full control of it, and who can obtain that: worked out where it is first asked for, and kept."""
        if self.from_elsewhere:
            return self._full_control_now()
        judged = self.conclusion.summary.subject
        known = self._memory.full_control_of(self.key)
        if known is None:
            known = self._full_control_now().renamed(self.subject, judged)
            if not self.troubles:
                self._memory.note_full_control(self.key, known)
        return known.renamed(judged, self.subject)

    def held_by(self, account: str) -> tuple[Holding, ...]:
        """Return what an account holds, also merely by being an account of the host."""
        kept = self._kept
        if kept is None:
            return self.judged.held_by(account)
        named = (holding for holding in self.by_node if holding.principal.name == account and kept.in_brief(holding.principal) is not None)
        return (*named, *self.group_edges.held_by(account))

    def in_brief(self, principal: Principal) -> AccountInBrief | None:
        """Return what a list of holders shows of the account behind a holder, if it is one."""
        with suppress(KeyError):
            return self._memory.in_brief(self.key, self._as_judged(principal))
        kept = self._kept
        return self.judged.in_brief(principal) if kept is None else kept.in_brief(principal)

    def with_groups(self, account: str) -> AccountWithGroups | None:
        """Return what stands over the routes of one of its accounts, ``None`` of any other name."""
        kept = self._kept
        known = None if kept is None else kept.with_groups(account)
        return self.judged.with_groups(account) if known is None else known

    @property
    def account_count(self) -> int:
        """How many accounts it has."""
        kept = self._kept
        return self.judged.account_count if kept is None else kept.account_count

    def member_count(self, group: str) -> int:
        """Return how many accounts are in a group."""
        kept = self._kept
        known = None if kept is None else kept.member_count(group)
        return self.judged.member_count(group) if known is None else known

    def _as_judged(self, value: T) -> T:
        return renamed(value, self.subject, self.conclusion.summary.subject)

    def _as_here(self, value: T) -> T:
        """Return what was kept under the name of the host that was judged as it is here."""
        return renamed(value, self.conclusion.summary.subject, self.subject)

    # -- what the judged host says -----------------------------------------------------------------------------------------------

    @cached_property
    def judged(self) -> HostRights:
        """The host, judged now."""
        return self._alone.joined_with(self.from_elsewhere) if self.from_elsewhere else self._alone

    @cached_property
    def _alone(self) -> HostRights:
        """The host, judged now, as it is without the others."""
        self._memory.note_judged(self)
        return self._judge()

    def forget(self) -> None:
        """Let what was judged again go: of thousands of hosts it cannot be held."""
        for name in ("judged", "_alone"):
            self.__dict__.pop(name, None)

    def joined_with(self, from_elsewhere: tuple[Holding, ...]) -> HostRights:
        """Return the same host with what accounts of other hosts hold on it."""
        joined = copy(self)
        joined.forget()
        joined.from_elsewhere = from_elsewhere
        return joined

    facts: HostFacts = property(lambda self: self.judged.facts)  # type: ignore[assignment]
    population: Population = property(lambda self: self.judged.population)  # type: ignore[assignment]
    policy: Policy = property(lambda self: self.judged.policy)  # type: ignore[assignment]
    effective: Effective = property(lambda self: self.judged.effective)  # type: ignore[assignment]

    @property
    def key_grants(self) -> tuple[tuple[Identity, KeyGrant], ...]:
        """The keys that open accounts here, each with the account."""
        return self.judged.key_grants

    @property
    def private_keys(self) -> tuple[PrivateKey, ...]:
        """The private keys that are stored here."""
        return self.judged.private_keys

    def names(self) -> set[str]:
        """Return its accounts and groups, and anyone who holds a right here."""
        kept = self._kept
        if kept is None:
            return self.judged.names()
        return {*self.conclusion.names, *kept.names, *(str(one.principal) for one in self.from_elsewhere if is_own(one))}

    def belongs_to(self, name: str) -> Iterable[str]:
        """Return the groups that an account is in, without the one that is its own by name."""
        return self.judged.belongs_to(name)

    @property
    def opening_keys(self) -> Iterator[tuple[str, AuthorizedKey]]:
        """The keys that open accounts here, each with the account's name."""
        return self.judged.opening_keys

    def person_accounts(self) -> Iterator[tuple[str, str]]:
        """Yield the accounts of people, each with its comment."""
        return self.judged.person_accounts()

    def comments(self) -> Iterator[tuple[str, str]]:
        """Yield every account with its comment."""
        kept, own = self._kept, self.conclusion
        if kept is None:
            return self.judged.comments()
        taken = ((name, comment) for name, comment in kept.comments().items() if name not in own.accounts)
        return chain(((name, own.comments.get(name, "")) for name in own.accounts), taken)

    def identity(self, principal: Principal) -> Identity | None:
        """Return the account behind a principal, if it is one."""
        return self.judged.identity(principal)

    def account(self, name: str) -> Identity | None:
        """Return one of its accounts by its name."""
        return self.judged.account(name)

    @property
    def files(self) -> tuple[FileState, ...]:
        """The files that were looked at."""
        return tuple(self.judged.files)

    @property
    def programs(self) -> Programs | None:
        """The search for setuid files and capabilities, where there was one."""
        return self.judged.programs
