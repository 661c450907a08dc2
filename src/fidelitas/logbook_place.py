"""The logs of one place read into how privilege is used on its hosts, from their begin or from where an earlier reading stood.

    logs ─ languages ─► events ─ usage ─► actions, sessions, habits

Hosts are read one after another, and of each no more is kept than its use of privilege amounts to, however long its logs are.
"""

from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import UTC, datetime, timedelta, tzinfo
from hashlib import blake2b
from typing import NamedTuple

from msgspec import Struct, field

from fidelitas.checks.usage.table import use_findings
from fidelitas.errors import ReadError
from fidelitas.facts import Event, EventKind, Gap, Place
from fidelitas.findings import Finding
from fidelitas.languages.logs.reading import ChangedError, Cover, LogLike, LogReading
from fidelitas.languages.logs.shares import WHOLE, Share
from fidelitas.logbook_state import PlaceState, frozen, thawed
from fidelitas.text import short_host_name
from fidelitas.trouble import guarded, internal_error
from fidelitas.usage import AttributedEvent, HostUse, Latest, LatestSoFar, People, PlainSession, PlainUse, Session, plain

__all__ = ["EventFilter", "HostLogs", "LogTask", "Logbook", "read_task"]

# Lines of several programs are now and then so much out of order.
_DISORDER = timedelta(minutes=2)
# So many events wait for others of their host.
_MOST_WAITING = 20_000


class HostLogs(Struct, frozen=True, kw_only=True):
    """The logs of one host, and what is known of it: the zone of its clock, its accounts by user ID, those with rights.

    It is `called` by names besides that of the subject.
    """

    subject: str
    logs: Sequence[LogLike]
    zone: tzinfo = UTC
    names: Mapping[int, str] = field(default_factory=dict)
    called: tuple[str, ...] = ()
    sids: Mapping[str, str] = field(default_factory=dict)
    entitled: frozenset[str] | None = None
    taken: datetime | None = None
    troubles: tuple[Gap, ...] = ()


class EventFilter(Struct, frozen=True, kw_only=True):
    """Which actions are asked for; what is left out of all."""

    person: str | None = None
    host: str | None = None
    command: str | None = None
    kinds: frozenset[EventKind] = frozenset(EventKind)
    since: datetime | None = None
    until: datetime | None = None

    def matches(self, record: AttributedEvent) -> bool:
        """Return whether an action is asked for."""
        event = record.event
        return (
            event.kind in self.kinds
            and (self.person is None or self.person in record.persons or self.person == event.account)
            and (self.host is None or short_host_name(event.host or event.place.subject) == short_host_name(self.host))
            and (self.command is None or self.command in event.command)
            and (self.since is None or (event.at is not None and event.at >= self.since))
            and (self.until is None or (event.at is not None and event.at < self.until))
        )

    def takes_session(self, session: Session) -> bool:
        """Return whether a session is asked for, by person, host and time."""
        return (
            (self.person is None or self.person == session.person)
            and (self.host is None or short_host_name(session.host or session.place.subject) == short_host_name(self.host))
            and (self.since is None or session.closed is None or session.closed >= self.since)
            and (self.until is None or session.opened < self.until)
        )


class Logbook(Struct):
    """The use of privilege on each host, by its name; what was not understood or could not be read; what each log covers.

    `people` counts the actions that were asked for, of all hosts, `records` is how many those are; `everyone` are the persons of any
    action; `gone` are events that an earlier copy of a log has and a later one lacks; `latest` is of all actions, by the subject whose logs
    tell them.  `states` is where the reading of one place stood at the end of what its logs hold so far, by share.
    """

    hosts: dict[str, HostUse] = field(default_factory=dict)
    people: People = field(default_factory=People)
    everyone: set[str] = field(default_factory=set)
    records: int = 0
    unknown: Counter[str] = field(default_factory=Counter)
    gaps: list[Gap] = field(default_factory=list)
    unread: list[ReadError] = field(default_factory=list)
    covers: list[Cover] = field(default_factory=list)
    gone: list[Event] = field(default_factory=list)
    latest: dict[str, Latest] = field(default_factory=dict)
    states: dict[int, bytes] = field(default_factory=dict)

    def findings(self) -> list[Finding]:
        """Return what is out of order, the worst first; a check that failed unexpectedly is a gap."""
        found = use_findings(self.hosts.values())
        self.gaps += [gap for use in self.hosts.values() for gap in use.troubles if gap not in self.gaps]
        return found

    @property
    def says_nothing(self) -> bool:
        """Whether there are logs, and in none of them a line that concerns privilege was recognised."""
        recorded = any(use.events for use in self.hosts.values()) or any(latest.logins for latest in self.latest.values())
        return bool(self.covers) and not recorded and all(cover.pulse.first is None for cover in self.covers)

    def spans(self) -> dict[str, tuple[datetime, datetime]]:
        """Return of each host from when to when its logs tell: up to when they were collected, where that is known."""
        found: dict[str, tuple[datetime, datetime]] = {}
        for name, use in self.hosts.items():
            times = [at for log in use.logs for at in (log.first, log.last) if at is not None]
            if times:
                found[name] = min(times), max([*times, *([use.until] if use.until is not None else [])])
        return found

    def use_of(self, subject: str) -> HostUse | None:
        """Return the use of privilege on a host, by its name up to the first dot."""
        return self.hosts.get(short_host_name(subject))


class LogTask(NamedTuple):
    """The logs of one place, which of the places it is, what is asked of them, and which share of the hosts that they are of.

    `state` is where an earlier reading stood; where this one stands is stated, where there are `worth` bytes or more.
    """

    at: int
    host: HostLogs
    wanted: EventFilter
    share: Share = WHOLE
    state: bytes = b""
    worth: int | None = None


def read_task(task: LogTask, take: Callable[[AttributedEvent], None] | None = None) -> Logbook:
    """Return what a share of the logs of one place records, host by host."""
    before = _before(task) if task.state else None
    return (_Place(task, take) if before is None else before).book()


def _before(task: LogTask) -> "_Place | None":
    """Return a place as it was when its logs were read before; ``None`` where they are to be read from their begin."""
    try:
        place, state = _Place(task, None), thawed(task.state)
        moved = place.moved(state)
        place.go_on(thawed(task.state, moved) if moved else state)
    except Exception:  # noqa: BLE001 the logs are others, or cannot be read, or something is wrong with what was kept: all is read
        return None
    return place


class _Place:
    """The logs of one place while they are read, and what they record so far."""

    def __init__(self, task: LogTask, take: Callable[[AttributedEvent], None] | None) -> None:
        host = task.host
        self._task, self._take = task, take
        self._every = task.wanted == EventFilter()
        self._book = Logbook()
        self._uses = _Uses(host, self._book.hosts, self._book.people if self._every else People())
        self._reading = LogReading(
            host.logs, host.zone, host.names, host.sids, task.share,
            singly=take is not None or not self._every, until=None if task.worth is None else _steady_until(host), aside=self._uses,
            called=host.called,
        )  # fmt: skip

    def moved(self, state: PlaceState) -> dict[str, str]:
        """Return under which paths logs are now that an earlier reading read, where they are others; may raise `ChangedError`."""
        return self._reading.moved(state.reading)

    def go_on(self, state: PlaceState) -> None:
        """Go on where an earlier reading stood; raises `ChangedError` where the logs, or what is known of the host, are others."""
        if state.premises != self._premises():
            raise ChangedError
        self._reading.go_on(state.reading)
        self._book = Logbook(hosts=state.hosts, people=state.people)
        self._uses.go_on(state)

    def _premises(self) -> tuple[object, ...]:
        """Return what the reading rests on besides the logs: it is the same, or all is read anew."""
        host, share = self._task.host, self._task.share
        known = repr((host.called, sorted(host.names.items()), sorted(host.sids.items()), sorted((share.met or {}).items())))
        digest = blake2b(known.encode("utf-8", "surrogateescape"), digest_size=24).digest()
        return host.subject, str(host.zone), share.number, share.of, share.many, share.times, digest

    def book(self) -> Logbook:
        """Return what the logs record, read to their ends."""
        self._add(self._reading.steady())
        state = self._state()
        for event in self._reading.last_logins():
            self._uses.latest.login(event.target, event.at)
        self._add(self._reading.rest())
        book = self._finish()
        if state is not None:
            book.states = {self._task.share.number: state}
        return book

    def _state(self) -> bytes | None:
        reading, worth = self._reading.state(), self._task.worth
        if reading is None or worth is None or self._book.gaps or reading.size < worth:
            return None
        uses = self._uses
        return frozen(PlaceState(self._premises(), reading, self._book.hosts, uses.by_written_name, self._book.people, uses.latest))

    def _add(self, events: Iterable[Event]) -> None:
        host, uses, wanted, book = self._task.host, self._uses, self._task.wanted, self._book
        doing = f"counting the use of privilege on {host.subject}"
        events = guarded(events, book.gaps, Place(subject=host.subject, path="logs"), doing, "what its logs record from there on")
        if self._every and self._take is None:
            for event in events:
                uses.take(event)
            uses.add_waiting()
            return
        for event in events:
            record = uses.of(event.host).add(event)
            if self._every or wanted.matches(record):
                if not self._every and not event.last_only:
                    book.records += 1
                    book.people.add(record)
                if self._take is not None:
                    self._take(record)

    def _finish(self) -> Logbook:
        book, reading, uses = self._book, self._reading, self._uses
        for name, count in reading.counted.events.items():
            if name in uses.by_written_name:  # but where reading ended before the first was yielded
                uses.of(name).events += count
        for (_, account), at in reading.counted.logins.items():
            uses.latest.login(account, at)
        if self._every:
            book.records = sum(use.events for use in book.hosts.values())
        book.everyone, book.latest = set(uses.people.by_name), {self._task.host.subject: uses.latest.found}
        for use in book.hosts.values():
            use.finish()
            if self._every and self._take is None:
                _work_out(use)
        book.unknown, book.unread, book.covers, book.gone = reading.unknown, reading.unread, reading.covers, reading.gone
        book.gaps += reading.gaps
        return book


def _steady_until(host: HostLogs) -> datetime | None:
    """Return a time by which every line was written that a place's logs have: a little before they were collected, by the host's clock."""
    if host.taken is None or not host.logs:
        return None
    return min(host.taken, max(log.by for log in host.logs)) - _DISORDER


def _work_out(use: HostUse) -> None:
    """Have it worked out what is unusual on a host, so that what was counted need not be kept; where that fails, its findings say so."""
    try:
        _ = use.unusual
    except Exception as error:  # noqa: BLE001 whatever it is, it costs this host alone
        place, doing = Place(subject=use.host, path="logs"), f"comparing the use of privilege on {use.host} with what is usual"
        use.troubles.append(internal_error(error, place, doing, "what is unusual in it"))


_Plain = tuple[PlainUse | PlainSession, datetime, Place, int, int | None, str]  # what a host is given of what is plain


class _Uses:
    """The use of privilege on each host of a log, by its name as it is written there.

    Hosts do not bear on one another: where nobody looks on, events wait and are added host by host, of which a processor's cache has all.
    """

    def __init__(self, place: HostLogs, hosts: dict[str, HostUse], people: People) -> None:
        self._place, self._hosts, self.people, self.latest = place, hosts, people, LatestSoFar()
        self.by_written_name: dict[str, HostUse] = {}
        self._waiting: dict[str, list[Event | _Plain]] = {}  # by the name as it is written; a host has one list
        self._count = 0

    def go_on(self, state: PlaceState) -> None:
        """Go on where an earlier reading stood."""
        self._hosts, self.people, self.latest, self.by_written_name = state.hosts, state.people, state.latest, state.by_written_name

    def of(self, written: str) -> HostUse:
        """Return the use of privilege on a host."""
        use = self.by_written_name.get(written)
        if use is None:
            place = self._place
            name = short_host_name(written or place.subject)
            shown = place.subject if name == short_host_name(place.subject) else name
            use = self.by_written_name[written] = self._hosts.setdefault(name, HostUse(shown, place.zone, self.people, self.latest))
        return use

    def plain(self, said: Event) -> PlainUse | PlainSession | None:
        """Return what a message tells as a plain use or session, ``None`` where it is neither."""
        return plain(said)

    def take(self, event: Event) -> None:
        """Add an event, now or later."""
        self._wait(event.host, event)

    def take_plain(self, said: PlainUse | PlainSession, at: datetime, place: Place, line: int, pid: int | None, host: str) -> None:
        """Add a plain use or session, now or later."""
        self._wait(host, (said, at, place, line, pid, host))

    def _wait(self, host: str, event: Event | _Plain) -> None:
        events = self._waiting.get(host)
        if events is None:
            use = self.of(host)
            events = next((self._waiting[name] for name, one in self.by_written_name.items() if one is use and name in self._waiting), [])
            self._waiting[host] = events
        events.append(event)
        self._count += 1
        if self._count >= _MOST_WAITING:
            self.add_waiting()

    def add_waiting(self) -> None:
        """Add the events that wait, those of one host in their order."""
        for written, events in self._waiting.items():
            use = self.of(written)
            add, add_plain = use.add, use.add_plain
            for event in events:
                if isinstance(event, Event):
                    add(event)
                else:
                    add_plain(*event)
            events.clear()
        self._count = 0
