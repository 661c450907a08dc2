"""All rights on one Windows machine, as links and holdings.

Administrators are told by SID.  What runs as the system is as safe as its program, the folders on the way to it, and its settings.
"""

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from fidelitas.facts import (
    Gap,
    LocalAccount,
    LocalGroup,
    MembershipChange,
    Place,
    SecuredPath,
    UserRight,
    WindowsFacts,
    WindowsJob,
    WindowsSession,
)
from fidelitas.rights.directory import DirectoryRights
from fidelitas.rights.graph.links import Holding, Link, LinkKind, Principal, PrincipalKind, Right, RightKind, Strength
from fidelitas.rights.graph.routes import holdings_by
from fidelitas.rights.linux.edges import Edge
from fidelitas.rights.server import ServerRights
from fidelitas.rights.windows.access import ADD_FILE, CHANGE_SERVICE, EVERYBODY, REPLACE_CHILD, TRUSTED, WRITE_FILE, Allowed, allowed_to
from fidelitas.rights.windows.commands import folder_of, is_unquoted, programs_tried, same_path
from fidelitas.rights.windows.holders import Holders
from fidelitas.rights.windows.powers import GROUP_POWERS, USER_RIGHT_POWERS, Power

__all__ = ["ADMINISTRATORS", "StaleSession", "WindowsRights", "windows_rights_of"]

ADMINISTRATORS = "S-1-5-32-544"
_INSTALLS_ELEVATED = "hklm\\software\\policies\\microsoft\\windows\\installer\\alwaysinstallelevated"


class StaleSession(NamedTuple):
    """A session that began before its account's membership changed: it holds the groups of before until it ends."""

    session: WindowsSession
    change: MembershipChange


class WindowsRights(ServerRights):
    """What the facts of a Windows machine amount to; `directories` are those whose groups it may name."""

    platform = "windows"

    def __init__(self, facts: WindowsFacts, directories: Sequence[DirectoryRights] = ()) -> None:
        super().__init__(facts.subject, facts.taken, facts.gaps)
        self.facts = facts
        self.accounts = {account.name: account for account in facts.accounts}
        self.holders = Holders(facts, directories)
        self._paths = {same_path(one.path): one for one in facts.paths}
        self._gaps = (*facts.gaps, *self._unread_groups())

    @cached_property
    def links(self) -> tuple[Link, ...]:
        """Everything that somebody can do next."""
        own = (*self._memberships(), *self._group_powers(), *self._user_rights(), *self._jobs(), *self._settings())
        entitled = _leading_on(own)
        return tuple(dict.fromkeys((*own, *(link for directory in self.holders.directories for link in directory.below(entitled)))))

    @cached_property
    def holdings(self) -> tuple[Holding, ...]:
        """All holdings, administrators first."""
        return holdings_by([Edge((link,)) for link in self.links])

    def knows(self, holder: str) -> bool:
        """Return whether there is such an account or group here, or one of a directory that holds something here."""
        groups = (f"%{group.name}" for group in self.facts.groups)
        return holder in self.accounts or holder in groups or any(held.principal.is_called(holder) for held in self.holdings)

    def describe(self, principal: Principal) -> str:
        """Return what a holder is."""
        account = self.accounts.get(principal.name) if principal.subject == self.subject else None
        if account is not None and principal.kind is PrincipalKind.ACCOUNT:
            return "local account" + (", disabled" if account.disabled else "") + (", locked" if account.locked else "")
        directory = next((one for one in self.holders.directories if one.subject == principal.subject), None)
        if directory is not None:
            return directory.describe(principal)
        local = any(group.name == principal.name for group in self.facts.groups)
        return {
            PrincipalKind.GROUP: "local group" if local else "group of a domain",
            PrincipalKind.ANY_ACCOUNT: "everybody",
            PrincipalKind.ACCOUNT: "account",
        }.get(principal.kind, "not of this machine")

    def belongs_to(self, role: str) -> Iterable[str]:
        """Return the groups that an account or group is in, at any depth."""
        above: dict[str, list[str]] = {}
        for link in self.links:
            if isinstance(link.target, Principal) and link.way == "group":
                above.setdefault(str(link.source), []).append(str(link.target))
        agenda, seen = [role], {role}
        for one in agenda:
            new = [outer for outer in above.get(one, ()) if outer not in seen]
            seen.update(new)
            agenda += new
        return sorted(seen - {role})

    def about(self, role: str) -> Sequence[str]:
        """Return what an account is, and its sessions."""
        account = self.accounts.get(role)
        lines = [] if account is None else [_described(self.describe(self._node(account)), account)]
        for session in self.facts.sessions:
            if str(self.session_holder(session)) == role:
                since = f" since {session.since:%Y-%m-%d %H:%M} UTC" if session.since else ""
                lines.append(f"logged on {_SESSION_KINDS.get(session.kind, f'in a session of type {session.kind}')}{since}")
        return lines

    def head(self) -> Sequence[str]:
        """Return the system and how much there is."""
        facts = self.facts
        jobs = f"{sum(job.kind == 'service' for job in facts.jobs)} services, {sum(job.kind == 'task' for job in facts.jobs)} tasks"
        by = "" if facts.elevated is not False else ", not as an administrator"
        return (
            f"{facts.system or 'Windows'}; evidence of {facts.taken:%Y-%m-%d %H:%M} UTC{by}",
            f"{len(facts.accounts)} accounts, {len(facts.groups)} groups; {jobs}",
        )

    def counts(self) -> Sequence[tuple[str, int]]:
        """Return how much was read."""
        facts = self.facts
        sizes = (facts.accounts, facts.groups, facts.user_rights, facts.jobs, facts.paths, facts.sessions)
        names = ("local accounts", "local groups", "user rights", "services and tasks", "access control lists", "open sessions")
        return tuple(zip(names, map(len, sizes), strict=True))

    # -- links -------------------------------------------------------------------------------------------------------------------

    def _node(self, one: LocalAccount | LocalGroup) -> Principal:
        kind = PrincipalKind.ACCOUNT if isinstance(one, LocalAccount) else PrincipalKind.GROUP
        return Principal(kind=kind, name=one.name, subject=self.subject)

    def _to(
        self,
        source: Principal,
        target: Principal | Right,
        kind: LinkKind,
        strength: Strength,
        way: str,
        because: str,
        place: Place,
        *conditions: str,
    ) -> Link:
        if conditions:
            strength = Strength.CONDITIONAL
        return Link(
            source=source, target=target, kind=kind, strength=strength, way=way, because=because, conditions=conditions, place=place
        )

    def _memberships(self) -> Iterator[Link]:
        for group in self.facts.groups:
            for member in group.members:
                source = self.holders.of_sid(member.sid) if member.sid else self.holders.of_name(member.name)
                if group.sid in EVERYBODY and source.name not in self.accounts:
                    continue  # "any account" stands for all the people of a domain
                inner = (
                    f"group {source.name} is in group {group.name}"
                    if source.kind is PrincipalKind.GROUP
                    else f"it is in group {group.name}"
                )
                target = self.holders.of_sid(group.sid) if group.sid else self._node(group)
                yield self._to(source, target, LinkKind.HAS, Strength.DIRECT, "group", inner, member.place)

    def _group_powers(self) -> Iterator[Link]:
        for group in self.facts.groups:
            if group.sid in GROUP_POWERS:
                power = GROUP_POWERS[group.sid]
                yield self._power(self._node(group), power, power.group, group.place)

    def _power(self, source: Principal, power: Power, way: str, place: Place) -> Link:
        return self._to(source, self.right(power.right), LinkKind.HAS, power.strength, way, power.because, place)

    def _user_rights(self) -> Iterator[Link]:
        for one in self.facts.user_rights:
            if one.right in USER_RIGHT_POWERS and one.holder not in TRUSTED and not one.holder.startswith("S-1-5-80-"):
                yield self._power(self.user_right_holder(one), USER_RIGHT_POWERS[one.right], one.right, one.place)

    def user_right_holder(self, one: UserRight) -> Principal:
        """Return who holds a user right."""
        return self.holders.of_sid(one.holder) if one.holder.startswith("S-1-") else self.holders.of_name(one.holder)

    def _settings(self) -> Iterator[Link]:
        value, place = self.facts.settings.get(_INSTALLS_ELEVATED, ("0", None))
        if value == "1" and place is not None:
            because = "the installer runs any package as the system (AlwaysInstallElevated)"
            condition = "the same is set for its own account"
            yield self._to(
                self.holders.anybody,
                self.right(RightKind.ADMIN),
                LinkKind.MAY_BECOME,
                Strength.CERTAIN,
                "installer",
                because,
                place,
                condition,
            )

    def _jobs(self) -> Iterator[Link]:
        for job in self.facts.jobs:
            if not job.enabled:
                continue
            for allowed, because, place, condition in self.weak_spots(job):
                conditions = tuple(filter(None, (allowed.condition, condition)))
                source = self.holders.of_sid(allowed.sid)
                if self.holders.is_system(job.sid, job.account):
                    target: Principal | Right = self.right(RightKind.ADMIN)
                else:
                    target = self.runs_as(job)
                if source != target:
                    yield self._to(source, target, LinkKind.MAY_BECOME, Strength.CERTAIN, job.kind, because, place, *conditions)

    def runs_as(self, job: WindowsJob) -> Principal:
        """Return as whom a service or task runs."""
        return self.holders.of_sid(job.sid) if job.sid else self.holders.of_name(job.account)

    def weak_spots(self, job: WindowsJob) -> Iterator[tuple[Allowed, str, Place, str]]:
        """Yield who, beyond administrators, can make a service or task run something else: by what, from where, if what."""
        for allowed in allowed_to(job.access, CHANGE_SERVICE):
            yield allowed, f"it may reconfigure {job.kind} {job.name}", job.place, ""
        program = self.program_of(job)
        if program is not None:
            for allowed in allowed_to(program.access, WRITE_FILE):
                yield allowed, f"it can write {program.path}, which {job.kind} {job.name} runs", program.place, ""
            yield from self._by_folder(job, program)
        for path, folder in self.open_candidates(job):
            for allowed in allowed_to(folder.access, ADD_FILE):
                yield allowed, f"it can make {path}, which is tried before the program of {job.kind} {job.name}", folder.place, ""

    def _by_folder(self, job: WindowsJob, program: SecuredPath) -> Iterator[tuple[Allowed, str, Place, str]]:
        folder = self._paths.get(same_path(folder_of(program.path)))
        if folder is None:
            return
        replacing = {allowed.sid for allowed in allowed_to(folder.access, REPLACE_CHILD)}
        for allowed in allowed_to(folder.access, ADD_FILE):
            condition = "" if allowed.sid in replacing else "the program loads a library that is looked for there and is not there"
            yield allowed, f"it can put files beside {program.path}, which {job.kind} {job.name} runs", folder.place, condition

    def program_of(self, job: WindowsJob) -> SecuredPath | None:
        """Return the program that a service or task runs, where the evidence has it."""
        found = (self._paths.get(same_path(path)) for path in programs_tried(job.command))
        return next((one for one in found if one is not None and one.exists and not one.folder), None)

    def open_candidates(self, job: WindowsJob) -> Iterator[tuple[str, SecuredPath]]:
        """Yield paths that are tried before the program of an unquoted command line, each with the folder that it would lie in."""
        program = self.program_of(job)
        if not is_unquoted(job.command) or program is None:
            return
        for path in programs_tried(job.command):
            if same_path(path) == same_path(program.path):
                return
            folder = self._paths.get(same_path(folder_of(path)))
            if folder is not None and folder.exists:
                yield path, folder

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
        """Yield a gap for each group of a domain in a group with powers whose members no directory in evidence tells."""
        for group in self.facts.groups:
            for member in group.members if group.sid in GROUP_POWERS else ():
                if member.group and self.holders.of_sid(member.sid).subject == self.subject and member.sid not in self._own_sids:
                    why = f"its members are in a directory that is not in evidence (SID {member.sid})"
                    yield Gap(
                        what=f"group {member.name or member.sid}", why=why, weakens=f"who is in group {group.name}", place=member.place
                    )

    @cached_property
    def _own_sids(self) -> frozenset[str]:
        return frozenset(group.sid for group in self.facts.groups) | EVERYBODY


_SESSION_KINDS = {
    2: "at the console", 3: "over the network", 4: "as a batch job", 5: "as a service", 7: "at the console", 10: "by remote desktop",
    11: "at the console",
}  # fmt: skip


def _leading_on(links: Sequence[Link]) -> list[Principal]:
    """Return who reaches a right by some links: whose members matter."""
    into: dict[Principal | Right, list[Principal]] = {}
    for link in links:
        into.setdefault(link.target, []).append(link.source)
    agenda = [source for target, sources in into.items() if isinstance(target, Right) for source in sources]
    seen = set(agenda)
    for node in agenda:
        new = [source for source in into.get(node, ()) if source not in seen]
        seen.update(new)
        agenda += new
    return list(dict.fromkeys(agenda))


def _described(kind: str, account: LocalAccount) -> str:
    seen = f", last log-on {account.last_logon:%Y-%m-%d}" if account.last_logon else ""
    return f"{kind}{seen} ({account.sid})"


def windows_rights_of(facts: WindowsFacts, directories: Sequence[DirectoryRights] = ()) -> WindowsRights:
    """Return all rights on a Windows machine; groups of the directories are resolved through."""
    return WindowsRights(facts, directories)
