"""What happened on one host, gathered while the actions go by: enough to tell what is out of order, however long the log.

Counts are kept by account and hour; of single actions only those are kept that a reader wants to see, and of each sort so many.
"""

from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, tzinfo
from enum import Enum
from typing import TypeVar

from fidelitas.facts import LOGIN_SERVICES, Change, Event, EventKind, Gap, Hours, Place, TimeJump
from fidelitas.usage.causes import METHODS
from fidelitas.usage.command_families import family_of
from fidelitas.usage.habits import bin_of, is_usual
from fidelitas.usage.persons import CRON, AttributedEvent, Attribution
from fidelitas.usage.provenance import Grants
from fidelitas.usage.sensitive_targets import SensitiveTarget, sensitive_targets
from fidelitas.usage.sessions import Session, is_shell
from fidelitas.usage.summary import People

__all__ = ["MANY_ACCOUNTS", "Failures", "First", "HostUse", "LogState", "New", "Notable"]

_MOST = 500
_MOST_OF_PERSON = 20  # of a sort of actions; changes are compared with one another, and more of them are kept
_MANY, _FEW = 2 * _MOST, 5  # where a host has many, few more are kept of each person
_MOST_KEYS = 20_000
_OTHERS = "(others)"
# Accounts that are tried from one place within an hour: nobody has so many of their own.
MANY_ACCOUNTS = 5
K = TypeVar("K")
# A first time means something once there is a habit.
_HABIT = 20
# So many who did the same make it usual.
_TEAM = 2


class Notable(Enum):
    """Sorts of events that a reader wants to see one by one."""

    SUSPECTED_FORGERY = "suspected forgery"
    REFUSED = "refused"
    REFUSED_SENSITIVE = "refused, of a sensitive target"
    CHANGED = "changed"
    ROOT_LOGIN = "root login"
    SHELL = "shell"
    SECRET = "secret"  # noqa: S105
    POLICY = "policy"
    LOG = "log"
    AUDIT = "audit"

    __hash__ = object.__hash__


class New(Enum):
    """What an account can use for the first time."""

    RIGHT = "right"
    COMMAND = "command"


@dataclass(frozen=True, slots=True)
class First:
    """The first time that an account used a command or a right, after so many uses of `known` others, `once` of them met a single time."""

    record: AttributedEvent
    what: New
    uses: int
    once: int
    known: int


class _Known:
    """What accounts have used so far, how often, and who used what, up to a team."""

    __slots__ = ("users", "values", "what")

    def __init__(self, what: New) -> None:
        self.what = what
        self.values: dict[str, Counter[str]] = {}
        self.users: dict[str, set[str]] = {}


@dataclass(slots=True)
class Failures:
    """Failed attempts of one hour from one place or on one account.

    One attempt at a login is told by up to three lines: PAM's, that of the attempt itself, and why it cannot succeed (no such account,
    not allowed).  None of them is always there: each sort of line is counted by itself, and the highest number is that of the attempts.
    """

    place: Place  # of the first
    source: str
    tries: int = 0
    by_pam: int = 0
    refusals: int = 0
    accounts: set[tuple[str, int]] | None = None  # that one place tried; of a name that is masked, which

    @property
    def count(self) -> int:
        """How many attempts failed."""
        return max(self.tries, self.by_pam, self.refusals)

    def add(self, event: Event, count: int, *, own: bool) -> None:
        """Count a line that tells of so many attempts; those of someone's `own` password for sudo and the like are told once."""
        if own or event.reason in METHODS:
            self.tries += count
        elif event.kind is EventKind.FAILED:
            self.by_pam += count
        else:
            self.refusals += count


@dataclass(frozen=True, slots=True, kw_only=True)
class LogState:
    """One log as it was read: from when to when, its lines by hour, jumps back in time, and whether it was empty."""

    path: str
    family: str
    first: datetime | None
    last: datetime | None
    hours: Counter[int]
    jumps: Sequence[TimeJump]
    empty: bool
    survey: int


_NOTABLE = {target: Notable(target.value) for target in SensitiveTarget}


def _failed(table: dict[K, Failures], key: K, record: AttributedEvent, count: int) -> Failures:
    event, found = record.event, table.get(key)
    if found is None:
        found = table[key] = Failures(event.place, event.address or event.terminal)
    found.add(event, count, own=event.kind is EventKind.FAILED and (bool(record.persons) or event.program not in LOGIN_SERVICES))
    return found


def _of_whom(sort: Notable, record: AttributedEvent) -> tuple[Notable, str]:
    return sort, (record.event.address or record.event.terminal) if sort is Notable.ROOT_LOGIN else record.label


class HostUse:
    """The use of privilege on one host; `add` takes the events in the order of time, in the zone of whose clock habits are told."""

    def __init__(self, host: str, zone: tzinfo = UTC) -> None:
        self.host, self.zone = host, zone
        self.attribution = Attribution()
        self.people = People()
        self.events = 0
        self.sessions: list[Session] = []
        self.sessions_left_out = self.shells_left_out = 0  # of which nothing but their number is kept
        self._shells_of: Counter[str] = Counter()
        self.notable: dict[Notable, list[AttributedEvent]] = defaultdict(list)
        self.counted: Counter[Notable] = Counter()
        self.counted_of: Counter[tuple[Notable, str]] = Counter()  # by sort and person, of whom not all are kept
        self.active: dict[str, Counter[int]] = {}  # uses and attempts by account and hour since 1970, UTC
        self.active_at: dict[tuple[str, int], tuple[str, Place]] = {}  # the first command of such an hour, and its place
        self.failures: dict[str, dict[int, Failures]] = {}  # by account and hour
        self.sources: dict[int, dict[str, Failures]] = {}  # by hour and address or terminal; of hours past those with many accounts
        self.firsts: list[First] = []
        self.grants = Grants()
        self.logs: list[LogState] = []
        self.gone: list[Event] = []
        self.troubles: list[Gap] = []  # what went wrong unexpectedly while it was judged
        self.until: datetime | None = None  # when the logs were collected
        self.entitled: frozenset[str] | None = None  # accounts with rights, where a survey tells them
        self._bins: dict[int, int] = {}
        self._of_bin: Counter[tuple[str, int]] = Counter()  # active hours by person, or of all, and hour of the day
        self._rights, self._commands = _Known(New.RIGHT), _Known(New.COMMAND)
        self._hours = Hours()

    @property
    def subject(self) -> str:
        """The host, as findings name it."""
        return self.host

    def add(self, event: Event) -> AttributedEvent:
        """Take the next event, and return it with who stood behind it."""
        record = self.attribution.attribute(event)
        kind = event.kind
        self.events += 1
        if self.attribution.sessions.done:
            self._end_sessions()
        tries = 0 if kind is EventKind.OPENED or kind is EventKind.CLOSED else self.people.add(record)
        if event.doubt:
            self._keep(Notable.SUSPECTED_FORGERY, record)
        elif kind is EventKind.USED:
            self._use(record)
        elif kind is EventKind.REFUSED:
            self._keep(Notable.REFUSED, record)
            if len(record.persons) == 1:
                self._act(record)
            if sensitive_targets(event.command, event.folder):
                self._keep(Notable.REFUSED_SENSITIVE, record)
        elif kind is EventKind.FAILED or kind is EventKind.LOGIN_FAILED:
            self._fail(record, tries if record.persons and kind is EventKind.FAILED else event.times)
        elif kind is EventKind.CHANGED:
            self._keep(Notable.CHANGED, record)
            self.grants.add(record)
        elif kind is EventKind.LOGIN and event.target == "root" and not event.last_only:
            self._keep(Notable.ROOT_LOGIN, record)
        return record

    def finish(self) -> None:
        """Take the sessions that no line closed; no event comes any more."""
        self.sessions += self.attribution.sessions.never_closed()
        self.attribution = Attribution()

    def _end_sessions(self) -> None:
        for session in self.attribution.sessions.take():
            if len(self.sessions) < _MANY or self._is_one_of_few(session):
                self.sessions.append(session)
            else:
                self.sessions_left_out += 1
                self.shells_left_out += session.shell

    def _is_one_of_few(self, session: Session) -> bool:
        """Return whether a session is one of the first shells of a person after there were many: nobody's hide behind another's."""
        if not session.shell or (session.person not in self._shells_of and len(self._shells_of) >= _MOST_KEYS):
            return False
        self._shells_of[session.person] += 1
        return self._shells_of[session.person] <= _FEW

    def _keep(self, sort: Notable, record: AttributedEvent) -> None:
        """Count an event of a sort, and keep it; of each person so many, so that nobody's hide behind another's."""
        self.counted[sort] += 1
        of_person = _of_whom(sort, record)
        count = self.counted_of[of_person] + 1
        kept = self.notable[sort]
        most = _MOST if sort is Notable.CHANGED else _MOST_OF_PERSON if len(kept) < _MANY else _FEW
        if count <= most and len(kept) < _MOST_KEYS and (count > 1 or len(self.counted_of) < _MOST_KEYS):
            kept.append(record)
            self.counted_of[of_person] = count
        elif count > 1:
            self.counted_of[of_person] = count

    def how_often(self, sort: Notable, record: AttributedEvent) -> int:
        """Return how often there was an event of a sort by the same person, of logins as root from the same place."""
        return self.counted_of[_of_whom(sort, record)]

    # -- uses ----------------------------------------------------------------------------------------------------------------------

    def _use(self, record: AttributedEvent) -> None:
        event = record.event
        targets = sensitive_targets(event.command, event.folder)
        for target in targets:
            self._keep(_NOTABLE[target], record)
        if SensitiveTarget.POLICY in targets:
            self.grants.add(record)
        if is_shell(event):
            self._keep(Notable.SHELL, record)
        if len(record.persons) == 1 and event.program not in CRON:
            self._act(record)
            self._first(record, self._rights, event.target or "root")
            self._first(record, self._commands, family_of(event.command) or event.program)

    def _act(self, record: AttributedEvent) -> None:
        """Count a use or an attempt of one person by its hour."""
        at, person = record.event.at, record.persons[0]
        if at is None:
            return
        hours = self.active.get(person)
        if hours is None:
            if len(self.active) >= _MOST_KEYS:
                return
            hours = self.active[person] = Counter()
        hour = self._hours.number(at)
        if hour in hours:
            hours[hour] += 1
            return
        hours[hour] = 1
        if self._may_be_odd(person, hour):
            self.active_at[person, hour] = record.event.command, record.event.place

    def _may_be_odd(self, person: str, hour: int) -> bool:
        """Count an hour that someone is active in, and return whether it can still turn out to be unusual."""
        at = self._bins.get(hour)
        if at is None:
            at = self._bins[hour] = bin_of(hour, self.zone)
        self._of_bin[person, at] += 1
        self._of_bin["", at] += 1
        return not is_usual(self._of_bin[person, at], self._of_bin["", at])

    def _first(self, record: AttributedEvent, known_of: _Known, value: str) -> None:
        person = record.persons[0]
        known = known_of.values.get(person)
        if known is None:
            known = known_of.values[person] = Counter()
        if value not in known and len(known) < _MOST_KEYS:
            uses, users = known.total(), known_of.users
            usual = users.setdefault(value, set()) if len(users) < _MOST_KEYS else set()
            # What colleagues do is a habit of the team.
            if uses >= _HABIT and len(self.firsts) < 10 * _MOST and (known_of.what is New.RIGHT or len(usual) < _TEAM):
                once = sum(count == 1 for count in known.values())
                self.firsts.append(First(record, known_of.what, uses, once, len(known)))
            if len(usual) < _TEAM:
                usual.add(person)
        known[value] += 1

    # -- failures ------------------------------------------------------------------------------------------------------------------

    def _fail(self, record: AttributedEvent, count: int) -> None:
        event = record.event
        if event.at is None or not count:
            return
        account = (record.persons[0] if event.kind is EventKind.FAILED and record.persons else event.target or event.account) or "(no name)"
        source = event.address or event.terminal or event.account
        hour = self._hours.number(event.at)
        hours = self.failures.setdefault(account if account in self.failures or len(self.failures) < _MOST_KEYS else _OTHERS, {})
        _failed(hours, hour, record, count)
        if source:
            if hour not in self.sources:
                self._forget_sources(hour)
            here = self.sources.setdefault(hour, {})
            found = _failed(here, source if source in here or len(here) < _MOST_KEYS else _OTHERS, record, count)
            found.accounts = found.accounts or set()
            if len(found.accounts) < _MOST:
                found.accounts.add((event.target or account, event.masked))

    def _forget_sources(self, now: int) -> None:
        """Forget where few failures came from, but for the hours about one that begins: lines may be a little out of order."""
        for hour in [hour for hour in self.sources if abs(hour - now) > 1]:
            kept = {
                source: found for source, found in self.sources[hour].items() if found.accounts and len(found.accounts) >= MANY_ACCOUNTS
            }
            self.sources[hour] = kept
            if not kept:
                del self.sources[hour]

    def is_entitled(self, account: str) -> bool:
        """Return whether an account holds rights here: by a survey, else by having used some; root always does."""
        if account == "root":
            return True
        if self.entitled is not None:
            return account in self.entitled
        use = self.people.by_name.get(account)
        return use is not None and use.used > 0

    def flips(self) -> Iterator[tuple[AttributedEvent, AttributedEvent]]:
        """Yield memberships that were given and taken again, or the other way round, as pairs of actions."""
        before: dict[tuple[str, str], AttributedEvent] = {}
        for record in self.notable[Notable.CHANGED]:
            event = record.event
            if not event.group or not event.target or event.change not in (Change.MEMBER_ADDED, Change.MEMBER_REMOVED):
                continue
            key = event.target, event.group
            if key in before and before[key].event.change is not event.change:
                yield before[key], record
            before[key] = record
