"""The page of one person: when privilege was used, for what, what was refused, which shells were had, and what is unusual about it."""

from collections import Counter
from collections.abc import Iterator, Sequence
from datetime import datetime, tzinfo
from typing import Protocol

from msgspec import Struct, field

from fidelitas.facts import EventKind
from fidelitas.findings import Finding
from fidelitas.logbook import EventFilter, Logbook
from fidelitas.reports.findings import grouped, groups_table, tally
from fidelitas.reports.report import Part
from fidelitas.reports.table import Table
from fidelitas.reports.trend import bars
from fidelitas.reports.usage import people_table, record_blocks, time_shown
from fidelitas.reports.usage_parts import causes_table, shells_parts, titled, trend_of
from fidelitas.text import shortened
from fidelitas.usage import AttributedEvent, Session

__all__ = ["person_parts"]

_ACTS = frozenset({EventKind.USED, EventKind.REFUSED, EventKind.FAILED, EventKind.CHANGED})
_MOST_COMMANDS = 15
_DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
_MINUTES = "%Y-%m-%d %H:%M"


class Answer(Protocol):
    """What a page is made from."""

    @property
    def book(self) -> Logbook: ...
    @property
    def records(self) -> Sequence[AttributedEvent]: ...
    @property
    def wanted(self) -> EventFilter: ...
    @property
    def zone(self) -> tzinfo: ...
    @property
    def window(self) -> tuple[datetime | None, datetime | None]: ...
    @property
    def findings(self) -> list[Finding]: ...
    @property
    def shells_are_wanted(self) -> bool: ...
    def sessions(self) -> Iterator[Session]: ...


def person_parts(answer: Answer) -> list[Part]:
    """Return the page of the person that was asked for."""
    zone, people = answer.zone, answer.book.people
    acts = [record for record in answer.records if record.event.kind in _ACTS and not record.event.doubt]
    parts: list[Part] = [people_table(people.ranked(), zone, trend_of(answer.book, answer.window)), "\n"]
    parts += [*_hours(acts, zone), "\n"] if acts else []
    parts += titled("What was run", _commands(acts, zone))
    parts += titled(f"Anomalies: {tally(answer.findings)}", groups_table(grouped(answer.findings)) if answer.findings else None)
    if answer.shells_are_wanted:
        parts += shells_parts(answer.sessions(), zone)
    parts += titled("Refused, and passwords that were wrong", causes_table(people.causes, zone))
    return [*parts, *record_blocks(answer.records, zone)]


def _hours(acts: Sequence[AttributedEvent], zone: tzinfo) -> list[Part]:
    """Return how much was done at which hour of the day, and on which day of the week, in the reader's zone."""
    times = [record.event.at.astimezone(zone) for record in acts if record.event.at is not None]
    hours, days = Counter(at.hour for at in times), Counter(at.weekday() for at in times)
    week = "  ".join(f"{name} {days[number]}" for number, name in enumerate(_DAYS))
    latest = times[-1] if times else None
    name = latest.tzname() if latest is not None else ""
    return [f"Hours of the day ({name})  0 {bars([hours[hour] for hour in range(24)])} 23", f"Days of the week  {week}"]


class _Command(Struct):
    count: int = 0
    targets: set[str] = field(default_factory=set)
    hosts: set[str] = field(default_factory=set)
    first: datetime | None = None
    last: datetime | None = None


def _commands(acts: Sequence[AttributedEvent], zone: tzinfo) -> Table | None:
    """Return a row for each command, the most frequent first."""
    found: dict[str, _Command] = {}
    for record in acts:
        event = record.event
        if event.kind is EventKind.USED:
            one = found.setdefault(event.command or event.program, _Command())
            one.count += 1
            one.targets.add(event.target or "root")
            one.hosts.add(event.host)
            one.first = one.first or event.at
            one.last = event.at or one.last
    ranked = sorted(found.items(), key=lambda item: (-item[1].count, item[0]))
    rows = [
        (
            shortened(command),
            str(one.count),
            ", ".join(sorted(one.targets)),
            " ".join(sorted(one.hosts)),
            time_shown(one.first, zone, _MINUTES),
            time_shown(one.last, zone, _MINUTES),
        )
        for command, one in ranked[:_MOST_COMMANDS]
    ]
    if len(ranked) > _MOST_COMMANDS:
        others = ranked[_MOST_COMMANDS:]
        rows.append((f"{len(others)} other commands", str(sum(one.count for _, one in others)), "", "", "", ""))
    columns = ("command", "times", "as", "hosts", "first", "last")
    return Table(columns=columns, rows=tuple(rows), may_fold=frozenset({"command"}), least=("first",)) if rows else None
