"""Logs of many hosts read into how privilege is used on each: the whole way from lines to what is out of order.

    logs ─ languages ─► events ─ usage ─► deeds, sessions, habits ─ checks ─► findings

Pure but for the logs, which are read as they are asked for.  Hosts are read one after another, and of each no more is kept than its use of
privilege amounts to, however long its logs are.
"""

from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, tzinfo
from typing import Protocol

from fidelitas.checks.use import use_findings
from fidelitas.errors import ReadError
from fidelitas.facts import EventKind, Gap
from fidelitas.findings import Finding
from fidelitas.languages.host import HostEvidence, read_host
from fidelitas.languages.logs.reading import Cover, LogLike, LogReading
from fidelitas.rights import rights_of
from fidelitas.usage import Deed, HostUse, LogState, People

__all__ = ["HostLogs", "Logbook", "Wanted", "host_logs", "read_logbook"]


class HostLogEvidence(HostEvidence, Protocol):
    """The evidence of a host with its logs."""

    @property
    def zone(self) -> tzinfo: ...
    def logs(self, survey: int = 0) -> Sequence[LogLike]: ...


@dataclass(frozen=True, slots=True, kw_only=True)
class HostLogs:
    """The logs of one host, and what is known of it: the zone of its clock, its accounts by user ID, and those with rights."""

    subject: str
    logs: Sequence[LogLike]
    zone: tzinfo = UTC
    names: Mapping[int, str] = field(default_factory=dict)
    entitled: frozenset[str] | None = None
    taken: datetime | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """Which deeds are asked for; what is left out of all."""

    person: str | None = None
    host: str | None = None
    command: str | None = None
    kinds: frozenset[EventKind] = frozenset(EventKind)
    since: datetime | None = None
    until: datetime | None = None

    def takes(self, deed: Deed) -> bool:
        """Return whether a deed is asked for."""
        event = deed.event
        return (
            event.kind in self.kinds
            and (self.person is None or self.person in deed.persons or self.person == event.account)
            and (self.host is None or _short(event.host or event.place.subject) == _short(self.host))
            and (self.command is None or self.command in event.command)
            and (self.since is None or (event.at is not None and event.at >= self.since))
            and (self.until is None or (event.at is not None and event.at < self.until))
        )


@dataclass(slots=True)
class Logbook:
    """The use of privilege on each host, by its name; what was not understood or could not be read; what each log covers.

    `people` counts the deeds that were asked for, of all hosts, `deeds` is how many those are.
    """

    hosts: dict[str, HostUse] = field(default_factory=dict)
    people: People = field(default_factory=People)
    deeds: int = 0
    unknown: Counter[str] = field(default_factory=Counter)
    gaps: list[Gap] = field(default_factory=list)
    unread: list[ReadError] = field(default_factory=list)
    covers: list[Cover] = field(default_factory=list)

    def findings(self) -> list[Finding]:
        """Return what is out of order, the worst first."""
        return use_findings(self.hosts.values())

    def use_of(self, subject: str) -> HostUse | None:
        """Return the use of privilege on a host, by its name up to the first dot."""
        return self.hosts.get(_short(subject))


def host_logs(evidence: Sequence[HostLogEvidence]) -> HostLogs:
    """Return the logs that the evidence of one host holds, the oldest first, with what the newest tells of the host."""
    newest = evidence[-1]
    host = rights_of(read_host(newest))
    return HostLogs(
        subject=newest.subject,
        logs=[log for number, bundle in enumerate(evidence) for log in bundle.logs(number)],
        zone=newest.zone,
        names={account.uid: account.name for account in reversed(host.facts.accounts)},
        entitled=frozenset(str(holding.principal) for holding in host.own_holdings) | {"root"},
        taken=newest.taken,
    )


def read_logbook(hosts: Iterable[HostLogs], wanted: Wanted | None = None, take: Callable[[Deed], None] | None = None) -> Logbook:
    """Return what the logs of some hosts tell; `take` is given each deed that is asked for, host by host, in the order of time."""
    book, chosen = Logbook(), wanted or Wanted()
    every = chosen == Wanted()
    for host in hosts:
        _read(host, book, None if every else chosen, take)
    # Of files at hand nobody knows when they were collected: not before the last line of any of them.
    latest = max((log.last for use in book.hosts.values() for log in use.logs if log.last is not None), default=None)
    for use in book.hosts.values():
        use.until = use.until or latest
    return book


def _read(host: HostLogs, book: Logbook, wanted: Wanted | None, take: Callable[[Deed], None] | None) -> None:
    reading = LogReading(host.logs, host.zone, host.names)
    told: dict[str, HostUse] = {}
    people = book.people.add
    for event in reading.events():
        use = told.get(event.host)
        if use is None:
            name = _short(event.host or host.subject)
            shown = host.subject if name == _short(host.subject) else name
            use = told[event.host] = book.hosts.setdefault(name, HostUse(shown, host.zone))
        deed = use.add(event)
        if wanted is None or wanted.takes(deed):
            book.deeds += 1
            people(deed)
            if take is not None:
                take(deed)
    _finish(host, reading, told, book)


def _finish(host: HostLogs, reading: LogReading, told: Mapping[str, HostUse], book: Logbook) -> None:
    book.unknown += reading.unknown
    book.gaps += reading.gaps
    book.unread += reading.unread
    book.covers += reading.covers
    uses = list({id(use): use for use in told.values()}.values())
    for use in uses:
        use.finish()
        use.entitled = host.entitled if host.subject == use.host else use.entitled
    # What a log covers is said of the host that it is of; a log of many hosts says nothing of how steadily each wrote to it.
    own = uses[0] if len(uses) == 1 else book.hosts.get(_short(host.subject))
    if own is None and reading.covers:
        own = book.hosts.setdefault(_short(host.subject), HostUse(host.subject, host.zone))
    if own is not None:
        own.gone += reading.gone
        own.until = host.taken or own.until
        latest = max((cover.survey for cover in reading.covers), default=0)
        own.logs += [_state(cover) for cover in reading.covers if cover.survey == latest]


def _state(cover: Cover) -> LogState:
    pulse = cover.pulse
    return LogState(
        path=cover.path,
        family=cover.family,
        first=pulse.first,
        last=pulse.last,
        hours=pulse.hours,
        jumps=pulse.jumps,
        empty=cover.empty,
        survey=cover.survey,
    )


def _short(host: str) -> str:
    return host.partition(".")[0].lower()
