"""All rights on one Windows machine, as links and holdings.

Administrators are told by SID.  What runs as the system is as safe as its program, the folders on the way to it, and its settings.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import NamedTuple

from fidelitas.facts import (
    Gap,
    LocalAccount,
    LocalGroup,
    MembershipChange,
    Place,
    UserRight,
    WindowsFacts,
    WindowsJob,
    WindowsJobKind,
    WindowsSession,
)
from fidelitas.rights.domain import Domain
from fidelitas.rights.graph.links import By, Holding, Link, LinkKind, Mechanism, Principal, PrincipalKind, Right, RightKind, Strength
from fidelitas.rights.graph.paths import Edge
from fidelitas.rights.graph.routes import holdings_by
from fidelitas.rights.graph.walks import reached
from fidelitas.rights.subject import RowSubject
from fidelitas.rights.windows.access import EVERYONE, TRUSTED
from fidelitas.rights.windows.holders import Holders
from fidelitas.rights.windows.powers import GROUP_POWERS, USER_RIGHT_POWERS, Power
from fidelitas.rights.windows.weak_spots import WeakSpot, WeakSpots, tampering_clause

__all__ = ["ADMINISTRATORS", "StaleSession", "WindowsRights", "windows_rights_of"]

ADMINISTRATORS = "S-1-5-32-544"
_INSTALLS_ELEVATED = "hklm\\software\\policies\\microsoft\\windows\\installer\\alwaysinstallelevated"


# Who runs services, by SID: each of them, and two accounts of Windows.  Tasks that run as those two have the same rights.
_IMPERSONATING = frozenset({"S-1-5-6", "S-1-5-19", "S-1-5-20"})
_IMPERSONATION = "a service takes the token of a part of the system that connects to it (SeImpersonatePrivilege)"
_MECHANISMS = {WindowsJobKind.SERVICE: Mechanism.SERVICE, WindowsJobKind.TASK: Mechanism.TASK}


class StaleSession(NamedTuple):
    """A session that began before its account's membership changed: it holds the groups of before until it ends."""

    session: WindowsSession
    change: MembershipChange


class WindowsRights(RowSubject):
    """What the facts of a Windows machine amount to; `directories` are those whose groups it may name."""

    platform = "windows"

    def __init__(self, facts: WindowsFacts, directories: Sequence[Domain] = ()) -> None:
        super().__init__(facts.subject, facts.taken, facts.gaps)
        self.facts = facts
        self.holders = Holders(facts, directories)
        self.accounts = {self.holders.local(account).name: account for account in facts.accounts}
        self._weak_spots = WeakSpots(facts)
        self._gaps = (*facts.gaps, *self._unread_groups())

    @cached_property
    def links(self) -> tuple[Link, ...]:
        """Everything that someone can do next."""
        own = (*self._memberships(), *self._group_powers(), *self._user_rights(), *self._jobs(), *self._settings())
        own = (*own, *self._by_directory())
        entitled = _leading_on(own)
        return tuple(dict.fromkeys((*own, *(link for directory in self.holders.directories for link in directory.below(entitled)))))

    @cached_property
    def holdings(self) -> tuple[Holding, ...]:
        """All holdings, administrators first."""
        return holdings_by([Edge((link,)) for link in self.links])

    def knows(self, holder: str) -> bool:
        """Return whether there is such an account or group here, or one of a directory that holds something here."""
        return bool(self.meant_by(holder))

    def meant_by(self, holder: str) -> list[str]:
        """Return what those are called here that a name can mean: accounts and groups of the machine, and others that hold something."""
        groups = (f"%{group.name}" for group in self.facts.groups if f"%{group.name}".casefold() == holder.casefold())
        known = (*map(self.holders.local, self.facts.accounts), *(held.principal for held in self.holdings))
        return list(dict.fromkeys((*groups, *(str(one) for one in known if one.is_called_alike(holder)))))

    def means(self, holder: str) -> Callable[[Principal], bool]:
        """Return what says of a holder whether a name means it: the case of letters does not matter to Windows."""
        return lambda one: one.is_called_alike(holder)

    def belongs_to(self, name: str) -> Iterable[str]:
        """Return the groups that an account or group is in, at any depth."""
        mine = {str(one) for one in map(self.holders.local, self.facts.accounts) if one.is_called_alike(name)} | {name}
        return sorted(set(reached(mine, lambda one: self._above.get(one, ()))) - mine)

    @cached_property
    def _above(self) -> Mapping[str, Sequence[str]]:
        above: dict[str, list[str]] = {}
        for link in self.links:
            if isinstance(link.target, Principal) and link.mechanism is Mechanism.MEMBERSHIP:
                above.setdefault(str(link.source), []).append(str(link.target))
        return above

    def account_states(self) -> Mapping[str, bool | None]:
        """Return the local accounts, each with whether it is enabled."""
        return {name: None if account.disabled is None else not account.disabled for name, account in self.accounts.items()}

    def counts(self) -> Sequence[tuple[str, int]]:
        """Return how much was read."""
        facts = self.facts
        sizes = (facts.accounts, facts.groups, facts.user_rights, facts.jobs, facts.paths, facts.sessions)
        names = ("local accounts", "local groups", "user rights", "services and tasks", "access control lists", "open sessions")
        return tuple(zip(names, map(len, sizes), strict=True))

    # -- links -------------------------------------------------------------------------------------------------------------------

    def node(self, one: LocalAccount | LocalGroup) -> Principal:
        """Return an account or group of the machine as a holder."""
        if isinstance(one, LocalAccount):
            return self.holders.local(one)
        return Principal(kind=PrincipalKind.GROUP, name=one.name, subject=self.subject)

    def _to(
        self,
        source: Principal,
        target: Principal | Right,
        kind: LinkKind,
        strength: Strength,
        by: By,
        because: str,
        place: Place,
        *conditions: str,
    ) -> Link:
        if conditions:
            strength = Strength.CONDITIONAL
        return Link(source=source, target=target, kind=kind, strength=strength, by=by, because=because, conditions=conditions, place=place)

    def _by_directory(self) -> Iterator[Link]:
        """Yield who obtains the machine through its domain: by its account there, by policies, by its password that is kept there."""
        right = Right(kind=RightKind.ADMIN, detail="", subject=self.subject)
        return (link for directory in self.holders.directories for link in directory.over_machine(self.facts.computer, right))

    def _memberships(self) -> Iterator[Link]:
        for group in self.facts.groups:
            for member in group.members:
                source = self.holders.of_sid(member.sid) if member.sid else self.holders.of_name(member.called)
                if group.sid in EVERYONE and source.name not in self.accounts:
                    continue  # "any account" stands for all the people of a domain
                inner = (
                    f"group {source.name} is in group {group.name}" if source.kind is PrincipalKind.GROUP else f"is in group {group.name}"
                )
                target = self.holders.of_sid(group.sid) if group.sid else self.node(group)
                yield self._to(source, target, LinkKind.HAS, Strength.DIRECT, By(Mechanism.MEMBERSHIP), inner, member.place)

    def _group_powers(self) -> Iterator[Link]:
        for group in self.facts.groups:
            if group.sid in GROUP_POWERS:
                power = GROUP_POWERS[group.sid]
                yield self._power(self.node(group), power, By(Mechanism.ADMIN_GROUP, power.group), group.place)

    def _power(self, source: Principal, power: Power, by: By, place: Place) -> Link:
        return self._to(source, self.right(power.right), LinkKind.HAS, power.strength, by, power.because, place)

    def _user_rights(self) -> Iterator[Link]:
        for one in self.facts.user_rights:
            if self._counts(one):
                yield self._power(self.user_right_holder(one), USER_RIGHT_POWERS[one.right], By(Mechanism.USER_RIGHT, one.right), one.place)

    def _counts(self, one: UserRight) -> bool:
        """Return whether a user right is news: one of those that amount to something here, and not of Windows' own parts."""
        if one.right == "SeEnableDelegationPrivilege" and not self.facts.controller:
            return False
        return one.right in USER_RIGHT_POWERS and one.holder not in TRUSTED and not one.holder.startswith("S-1-5-80-")

    def user_right_holder(self, one: UserRight) -> Principal:
        """Return who holds a user right."""
        return self.holders.of_sid(one.holder) if one.holder.startswith("S-1-") else self.holders.of_name(one.holder)

    def _settings(self) -> Iterator[Link]:
        value, place = self.facts.settings.get(_INSTALLS_ELEVATED, ("0", None))
        if value == "1" and place is not None:
            because = "the installer runs any package as the system (AlwaysInstallElevated)"
            condition = "the same is set for its own account"
            yield self._to(
                self.holders.anyone,
                self.right(RightKind.ADMIN),
                LinkKind.MAY_BECOME,
                Strength.CERTAIN,
                By(Mechanism.INSTALLER),
                because,
                place,
                condition,
            )

    def _jobs(self) -> Iterator[Link]:
        for job in self.facts.jobs:
            if job.enabled:
                for spot in self.weak_spots(job):
                    yield from self._tampered(job, spot)

    def _tampered(self, job: WindowsJob, spot: WeakSpot) -> Iterator[Link]:
        """Yield where someone comes who decides what a service or task runs: to its account, and by a service to the machine."""
        source, clause = self.holders.of_sid(spot.allowed.sid), tampering_clause(job, spot)
        conditions, by = tuple(filter(None, (spot.allowed.condition, spot.condition))), By(_MECHANISMS[job.kind])
        system = self.holders.is_system(job.sid, job.account)
        account: Principal | Right = self.right(RightKind.ADMIN) if system else self.runs_as(job)
        ways = [(account, clause)]
        if not system and (job.kind is WindowsJobKind.SERVICE or job.sid in _IMPERSONATING) and self._services_impersonate:
            ways.append((self.right(RightKind.ADMIN), f"{clause}; {_IMPERSONATION}"))
        for target, because in ways:
            if source != target:
                yield self._to(source, target, LinkKind.MAY_BECOME, Strength.CERTAIN, by, because, spot.place, *conditions)

    @cached_property
    def _services_impersonate(self) -> bool:
        """Whether services may take the tokens of those who connect to them, as they may unless the user rights say otherwise."""
        holders = {one.holder for one in self.facts.user_rights if one.right == "SeImpersonatePrivilege"}
        return not self.facts.user_rights or not holders.isdisjoint(_IMPERSONATING)

    def runs_as(self, job: WindowsJob) -> Principal:
        """Return as whom a service or task runs."""
        return self.holders.of_sid(job.sid) if job.sid else self.holders.of_name(job.account)

    def weak_spots(self, job: WindowsJob) -> Iterator[WeakSpot]:
        """Yield who, beyond administrators, can make a service or task run something else; not the account itself that a task runs as."""
        own = None if self.holders.is_system(job.sid, job.account) else self.runs_as(job)
        return (spot for spot in self._weak_spots.of(job) if self.holders.of_sid(spot.allowed.sid) != own)

    def own_spots(self, job: WindowsJob) -> Iterator[WeakSpot]:
        """Yield by what the account that a task runs as can change what the task runs."""
        return (spot for spot in self._weak_spots.of(job) if self.holders.of_sid(spot.allowed.sid) == self.runs_as(job))

    # -- live sessions and what is not known -----------------------------------------------------------------------------------

    def session_holder(self, session: WindowsSession) -> Principal:
        """Return whose a session is."""
        return self.holders.of_sid(session.sid) if session.sid in self.holders.by_sid else self.holders.of_name(session.account)

    def stale_sessions(self) -> Iterator[StaleSession]:
        """Yield the sessions that began before the last change of a membership of their account in a group with powers."""
        latest: dict[tuple[str, str], MembershipChange] = {}
        for change in sorted(self.facts.changes, key=lambda one: one.at):
            latest[change.group, change.member] = change
        for session in self.facts.sessions:
            who = self.session_holder(session)
            mine = {str(who), *self.belongs_to(str(who))}
            for change in latest.values():
                concerns = change.member == session.sid or str(self.holders.of_sid(change.member)) in mine
                if concerns and change.group in GROUP_POWERS and session.since is not None and session.since < change.at:
                    yield StaleSession(session, change)

    def _unread_groups(self) -> Iterator[Gap]:
        """Yield a gap for each group of a domain that has powers here and whose members no directory in evidence lists."""
        for group in self.facts.groups:
            for member in group.members if group.sid in GROUP_POWERS else ():
                if member.group and member.sid and self._is_stranger(member.sid):
                    yield _unread_group(member.called, member.sid, f"who is in group {group.name}", member.place)
        for one in self.facts.user_rights:
            if self._counts(one) and one.holder.startswith("S-1-5-21-") and self._is_stranger(one.holder):
                yield _unread_group(one.holder, one.holder, f"who holds user right {one.right}", one.place)

    def _is_stranger(self, sid: str) -> bool:
        return sid not in self._own_sids and self.holders.of_sid(sid).subject == self.subject

    @cached_property
    def _own_sids(self) -> frozenset[str]:
        accounts = (account.sid for account in self.facts.accounts)
        return frozenset([*(group.sid for group in self.facts.groups if group.sid), *accounts]) | EVERYONE


def _unread_group(called: str, sid: str, weakens: str, place: Place) -> Gap:
    why = f"its members are in a directory that is not in evidence (SID {sid})"
    return Gap(what=f"group {called}", why=why, weakens=weakens, place=place)


def _leading_on(links: Sequence[Link]) -> list[Principal]:
    """Return who reaches a right by some links: whose members matter."""
    into: dict[Principal | Right, list[Principal]] = {}
    for link in links:
        into.setdefault(link.target, []).append(link.source)
    entitled = (source for target, sources in into.items() if isinstance(target, Right) for source in sources)
    return reached(entitled, lambda node: into.get(node, ()))


def windows_rights_of(facts: WindowsFacts, directories: Sequence[Domain] = ()) -> WindowsRights:
    """Return all rights on a Windows machine; groups of the directories are resolved through."""
    return WindowsRights(facts, directories)
