"""What happened on one host, gathered while the actions go by: enough to tell what is out of order, however long the log.

Counts are kept by account and hour; of single actions only those are kept that a reader wants to see, and of each sort so many.  What
counts amount to is worked out when no event comes any more, and the counts are forgotten.
"""

from collections import Counter
from collections.abc import Iterator
from datetime import UTC, datetime, tzinfo
from enum import Enum

from fidelitas.facts import Change, Event, EventKind, Gap, Place
from fidelitas.usage.active_hours import ActiveHours
from fidelitas.usage.causes import Cause, Causes
from fidelitas.usage.failures import FailedAttempts
from fidelitas.usage.latest import Latest, LatestSoFar
from fidelitas.usage.meanings import meaning_of
from fidelitas.usage.novelties import FirstUses
from fidelitas.usage.packed import Packed
from fidelitas.usage.persons import AttributedEvent, Attribution, AttributionBasis
from fidelitas.usage.plain import CRON, PlainSession, PlainUse
from fidelitas.usage.provenance import Grants
from fidelitas.usage.sensitive_targets import SensitiveTarget
from fidelitas.usage.sessions import Session
from fidelitas.usage.silences import LogState
from fidelitas.usage.summary import People, PersonUse, is_sure
from fidelitas.usage.unusual import Unusual, bursts, odd_hours

__all__ = ["LASTING", "HostUse", "Notable"]

_MOST = 500
_MOST_OF_PERSON = 20  # of a sort of actions; changes are compared with one another, and more of them are kept
_MANY, _FEW = 2 * _MOST, 5  # where a host has many, few more are kept of each person
_MOST_KEYS = 20_000


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


_NOTABLE = {target: Notable(target.value) for target in SensitiveTarget}


def _of_whom(sort: Notable, record: AttributedEvent) -> tuple[Notable, str]:
    return sort, (record.event.address or record.event.terminal) if sort is Notable.ROOT_LOGIN else record.label


class HostUse:
    """The use of privilege on one host; `add` takes the events in the order of time, in the zone of whose clock habits are told.

    The record of an account's last login is no event: it says when that was, and counts as nothing else.

    `people` counts what everyone did, perhaps on other hosts, too; `latest` takes what the logs of one place tell, perhaps of other hosts.
    """

    __slots__ = (
        "_active", "_failed", "_first", "_people", "_shells_of", "_unusual", "attribution", "counted", "counted_of", "entitled", "events",
        "gone", "grants", "host", "latest", "logs", "notable", "sessions", "sessions_left_out", "shells_left_out", "troubles", "until",
        "users", "zone",
    )  # fmt: skip

    def __init__(self, host: str, zone: tzinfo = UTC, people: People | None = None, latest: LatestSoFar | None = None) -> None:
        self.host, self.zone = host, zone
        self.attribution = Attribution()
        self.latest = latest if latest is not None else LatestSoFar()
        self.events = 0
        self.sessions: Packed[Session] = Packed(Session)
        self.sessions_left_out = self.shells_left_out = 0  # of which nothing but their number is kept
        self._shells_of: Counter[str] = Counter()
        self.notable: dict[Notable, Packed[AttributedEvent]] = {sort: Packed(AttributedEvent) for sort in Notable}
        self.counted: Counter[Notable] = Counter()
        self.counted_of: Counter[tuple[Notable, str]] = Counter()  # by sort and person, of whom not all are kept
        self.users: set[str] = set()  # persons who used privilege
        self.grants = Grants()
        self.logs: list[LogState] = []
        self.gone: list[Event] = []
        self.troubles: list[Gap] = []  # what went wrong unexpectedly while it was judged
        self.until: datetime | None = None  # when the logs were collected
        self.entitled: frozenset[str] | None = None  # accounts with rights, where a survey tells them
        self._people = people if people is not None else People()
        self._active, self._failed, self._first = ActiveHours(zone), FailedAttempts(), FirstUses()
        self._unusual: Unusual | None = None

    @property
    def unusual(self) -> Unusual:
        """What is unusual: worked out when it is first asked for, after the last event, and what was counted for it is forgotten then."""
        if self._unusual is None:
            active, failed, first = self._active, self._failed, self._first
            self._unusual = Unusual(
                odd_hours=odd_hours(active), bursts=bursts(failed, active), sprays=failed.sprays(), novelties=first.novelties
            )
            self._active, self._failed, self._first = ActiveHours(self.zone), FailedAttempts(), FirstUses()
        return self._unusual

    @unusual.setter
    def unusual(self, found: Unusual) -> None:
        self._unusual = found

    @property
    def subject(self) -> str:
        """The host, as findings name it."""
        return self.host

    def add(self, event: Event) -> AttributedEvent:
        """Take the next event, and return it with who stood behind it."""
        kind = event.kind
        if event.last_only:
            self.latest.login(event.target, event.at)
            return AttributedEvent(event, (event.target,), AttributionBasis.NAMED)
        record = self.attribution.attribute(event)
        self.events += 1
        if self.attribution.sessions.done:
            self._end_sessions()
        if (kind is EventKind.OPENED or kind is EventKind.CLOSED) and not event.doubt:
            return record
        tries = self._people.add(record)
        if kind is EventKind.USED:
            self.latest.use(event.account, record.person, event.at)
        elif kind is EventKind.LOGIN:
            self.latest.login(event.target, event.at)
        if event.doubt:
            self._keep(Notable.SUSPECTED_FORGERY, record)
        elif kind is EventKind.USED:
            self._use(record)
        elif kind is EventKind.REFUSED:
            self._keep(Notable.REFUSED, record)
            if len(record.persons) == 1:
                self._active.add(record.persons[0], event.at, event.command, event.place)
            if meaning_of(event).targets:
                self._keep(Notable.REFUSED_SENSITIVE, record)
        elif kind is EventKind.FAILED or kind is EventKind.LOGIN_FAILED:
            self._failed.add(record, tries if record.persons and kind is EventKind.FAILED else event.times)
        elif kind is EventKind.CHANGED:
            self._keep(Notable.CHANGED, record)
            self.grants.add(record)
        elif kind is EventKind.LOGIN and event.target == "root":
            self._keep(Notable.ROOT_LOGIN, record)
        return record

    def add_plain(self, said: PlainUse | PlainSession, at: datetime, place: Place, line: int, pid: int | None, host: str) -> None:
        """Take what is plain, by a line of the log that a place is in, where a host has a name: the same as its event."""
        if isinstance(said, PlainUse):
            self._add_use(said, at, place, line, pid, host)
            return
        self.events += 1
        if said.opened:
            self.attribution.opens_plain(said, at, place.at(line), pid, host)
        else:
            self.attribution.closes_plain(said, at, pid)
        if self.attribution.sessions.done:
            self._end_sessions()

    def _add_use(self, use: PlainUse, at: datetime, place: Place, line: int, pid: int | None, host: str) -> None:
        if not self.attribution.takes_plain(use, at, pid):
            self.add(use.said.stamped(at, place.at(line), pid, host))
            return
        person, meaning = use.persons[0], use.meaning
        self.events += 1
        self._people.use(person, meaning.program, use.target, host, at)
        self.latest.use(person, person, at)
        self.users.add(person)
        self._active.add(person, at, use.said.command, place, line)
        found = self._first.add(person, use.target, meaning.work)
        if found:
            event = use.said.stamped(at, place.at(line), pid, host)
            self._first.report(found, AttributedEvent(event, use.persons, AttributionBasis.NAMED))

    def finish(self) -> None:
        """Take the sessions that no line closed; no event comes any more."""
        for session in self.attribution.sessions.never_closed():
            self.sessions.append(session)
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

    def _use(self, record: AttributedEvent) -> None:
        event, persons, basis = record
        meaning = meaning_of(event)
        if meaning.targets:
            for target in meaning.targets:
                self._keep(_NOTABLE[target], record)
            if SensitiveTarget.POLICY in meaning.targets:
                self.grants.add(record)
        if meaning.shell and not event.within:
            self._keep(Notable.SHELL, record)
        if len(persons) != 1:
            return
        if is_sure(basis):
            self.users.add(persons[0])
        if event.program not in CRON:
            self._active.add(persons[0], event.at, event.command, event.place)
            found = self._first.add(persons[0], event.target or "root", meaning.work)
            if found:
                self._first.report(found, record)

    def is_entitled(self, account: str) -> bool:
        """Return whether an account holds rights here: by a survey, else by having used some; root always does."""
        if account == "root":
            return True
        return account in self.entitled if self.entitled is not None else account in self.users

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


# What is kept while logs go on, of this and of what it is made of.
LASTING = (HostUse, Attribution, Grants, LatestSoFar, Latest, People, PersonUse, Causes, Cause)
