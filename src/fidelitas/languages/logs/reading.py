"""Logs of one host, whichever form each has, into events in the order of time."""

from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime, tzinfo
from typing import Protocol

from fidelitas.errors import ReadError
from fidelitas.facts import Event, Gap, Place
from fidelitas.languages.logs.audit_log import AuditReader, is_audit_log
from fidelitas.languages.logs.clock import Clock, has_year
from fidelitas.languages.logs.entries import read_entries
from fidelitas.languages.logs.journal import JournalReader, is_export, is_journal_json
from fidelitas.languages.logs.log_in_records import is_log_in_records, read_log_in_records
from fidelitas.languages.logs.sudo_file import SudoFileReader, is_sudo_file
from fidelitas.languages.logs.syslog import SyslogReader
from fidelitas.text import decode

__all__ = ["LogEvents", "LogLike", "read_logs"]

_EARLIEST = datetime(1970, 1, 1, tzinfo=UTC)


class LogLike(Protocol):
    """A log to read, perhaps packed: `blocks` reads it anew each time, whole lines at a time; `by` is when it was last written to."""

    @property
    def path(self) -> str: ...
    @property
    def by(self) -> datetime: ...
    @property
    def blocks(self) -> Callable[[], Iterator[bytes]]: ...


@dataclass(slots=True)
class LogEvents:
    """What logs tell: events by time, messages of no known form by program, and which time each log covers.

    `gaps` are lines that could not be read, `unread` says which files could not be read to their end.
    """

    events: list[Event] = field(default_factory=list)
    unknown: Counter[str] = field(default_factory=Counter)
    gaps: list[Gap] = field(default_factory=list)
    unread: list[ReadError] = field(default_factory=list)
    covers: list[tuple[str, datetime | None, datetime | None]] = field(default_factory=list)


def read_logs(logs: Iterable[LogLike], subject: str, zone: tzinfo) -> LogEvents:
    """Return the events of all logs of a host whose clock is in `zone`; events that two logs tell alike are told once."""
    told = LogEvents()
    for log in logs:
        found: list[Event] = []
        try:
            found.extend(_events(log, Place(subject=subject, path=log.path), zone, told))
        except ReadError as error:  # a damaged file: what was read of it before counts, and so does every other
            told.unread.append(error)
        times = [event.at for event in found if event.at is not None]
        first, last = min(times, default=None), max(times, default=None)
        known = _known(told, first, last)
        told.covers.append((log.path, first, last))
        told.events += (event for event in found if event not in known) if known else found
    told.events.sort(key=lambda event: event.at or _EARLIEST)  # stable: what one second holds stays in its order
    return told


def _known(told: LogEvents, first: datetime | None, last: datetime | None) -> set[Event]:
    """Return the events that were told before of a time, where another log covers a part of it."""
    if first is None or last is None:
        return set()
    if not any(begin is not None and end is not None and begin <= last and first <= end for _, begin, end in told.covers):
        return set()
    return {event for event in told.events if event.at is None or first <= event.at <= last}


def _events(log: LogLike, origin: Place, zone: tzinfo, told: LogEvents) -> Iterator[Event]:
    if is_log_in_records(log.path):
        yield from read_log_in_records(log.blocks(), origin)
        return
    start = next(log.blocks(), b"")[:4096]
    if is_audit_log(start):
        yield from AuditReader(origin).events(log.blocks())
        return
    if is_journal_json(start) or is_export(start):
        journal = JournalReader(origin)
        yield from journal.json_events(log.blocks()) if is_journal_json(start) else journal.export_events(b"".join(log.blocks()))
        told.gaps += journal.gaps
        told.unknown += journal.unknown
        return
    if is_sudo_file(start):
        sudo = SudoFileReader(Clock(zone, log.by, *_ends(log)), origin)
        yield from sudo.events(log.blocks())
        told.gaps += sudo.gaps
        return
    syslog = SyslogReader(Clock(zone, log.by, *_stamps(log)), origin)
    yield from syslog.events(log.blocks())
    told.unknown += syslog.unknown


def _stamps(log: LogLike) -> tuple[str, str]:
    """Return the first and the last stamp of a log, where the first has no year; else nothing is needed of them."""
    first = next(read_entries(log.blocks()), None)
    if first is None or has_year(first.stamp):
        return "", ""
    stamps = [entry.stamp for entry in read_entries(_last_blocks(log))]
    return first.stamp, stamps[-1] if stamps else first.stamp


def _last_blocks(log: LogLike) -> Iterator[bytes]:
    """Yield the last two blocks of a log, in one of which is a line that matters unless they are few."""
    before, last = b"", b""
    for block in log.blocks():
        before, last = last, block
    yield before
    yield last


def _ends(log: LogLike) -> tuple[str, str]:
    """Return the stamps with which sudo's own log begins and ends."""
    first = decode(next(log.blocks(), b"")[:15])
    last = [line for block in _last_blocks(log) for line in block.split(b"\n") if line[:1].isalpha()]
    return first, decode(last[-1][:15]) if last else ""
