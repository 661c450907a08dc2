"""Logs of one host, whichever form each has, as one stream of events in the order of time.

Nothing is kept but what the end of the stream is asked for: what each log covers, and what could not be read.
"""

import heapq
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, tzinfo

from fidelitas.errors import ReadError
from fidelitas.facts import Event, Gap, Place
from fidelitas.languages.logs.audit_log import AuditReader, is_audit_log
from fidelitas.languages.logs.clock import Clock, has_year
from fidelitas.languages.logs.content import LogContent, LogLike
from fidelitas.languages.logs.directory_log import DirectoryLogReader, is_directory_log
from fidelitas.languages.logs.entries import first_stamp, lines_that_matter
from fidelitas.languages.logs.journal import JournalReader, is_export, is_journal_json
from fidelitas.languages.logs.log_in_records import LAST_LOG, read_last_log, read_log_in_records
from fidelitas.languages.logs.login_names import LoginNames
from fidelitas.languages.logs.postgresql_log import PostgresqlLogReader, is_postgresql_log
from fidelitas.languages.logs.pulse import Pulse
from fidelitas.languages.logs.sudo_file import SudoFileReader, is_sudo_file
from fidelitas.languages.logs.syslog import SyslogReader
from fidelitas.languages.logs.twice import Sourced, once
from fidelitas.languages.logs.windows_events import WindowsEventReader, is_event_xml
from fidelitas.text import decode
from fidelitas.trouble import internal_error

__all__ = ["Cover", "LogLike", "LogReading"]

_EARLIEST = datetime(1970, 1, 1, tzinfo=UTC)


@dataclass(slots=True)
class Cover:
    """What one log covers: its `pulse` tells from when to when, and how steadily."""

    subject: str
    path: str
    family: str
    survey: int
    pulse: Pulse = field(default_factory=Pulse)
    empty: bool = False


class LogReading:
    """Reads the logs of a host, those of a family in the order in which they come.

    Once `events` is through: `unknown` are messages of no known form by program, `gaps` lines that could not be read, `unread` files that
    could not be read to their end, `covers` what each log covers, `gone` events that an earlier copy of a log has and a later one lacks.
    """

    def __init__(
        self, logs: Iterable[LogLike], zone: tzinfo, names: Mapping[int, str] | None = None, sids: Mapping[str, str] | None = None
    ) -> None:
        """`zone` is the host's; `names` are its accounts by user ID, `sids` those of Windows by SID, where they are known."""
        self._families: dict[tuple[int, str], list[LogLike]] = {}
        for log in logs:
            self._families.setdefault((log.survey, log.family), []).append(log)
        self._zone = zone
        self._names = names or {}
        self._sids = sids or {}
        self._logins = LoginNames([*self._names.values(), *self._sids.values()])
        self.unknown: Counter[str] = Counter()
        self.gaps: list[Gap] = []
        self.unread: list[ReadError] = []
        self.covers: list[Cover] = []
        self.gone: list[Event] = []

    def events(self) -> Iterator[Event]:
        """Yield all events by time; what two logs tell alike once."""
        streams = [self._family(number, logs) for number, logs in enumerate(self._families.values())]
        if len(streams) < 2:
            yield from (one.event for stream in streams for one in stream)
            return
        surveys = [survey for survey, _ in self._families]
        missed: list[Sourced] = []
        yield from once(heapq.merge(*streams, key=lambda one: one.at), missed, surveys)
        self.gone = [one.event for one in missed if self._again(one)]

    def _again(self, one: Sourced) -> bool:
        """Return whether a log that was collected again later covers the time of an event that only its earlier copy tells."""
        survey, family = list(self._families)[one.family]
        return any(
            cover.family == family and cover.survey > survey and cover.pulse.first is not None and cover.pulse.last is not None
            and cover.pulse.first <= one.at <= cover.pulse.last
            for cover in self.covers
        )  # fmt: skip

    def _family(self, number: int, logs: Sequence[LogLike]) -> Iterator[Sourced]:
        at = _EARLIEST
        for log in logs:
            cover = Cover(log.subject, log.path, log.family, log.survey)
            self.covers.append(cover)
            try:
                for event in map(self._logins.shown, self._events(log, cover)):
                    at = event.at or at  # one without a time stands where its neighbours do
                    yield Sourced(at, number, event)
            except ReadError as error:  # a damaged file: what was read of it before counts, and so does every other
                self.unread.append(error)
            except Exception as error:  # noqa: BLE001 one log costs only itself
                place = Place(subject=log.subject, path=log.path)
                self.gaps.append(internal_error(error, place, f"reading {log.path}", "the use of privilege that it records"))

    def _events(self, log: LogLike, cover: Cover) -> Iterator[Event]:
        origin, pulse = Place(subject=log.subject, path=log.path), cover.pulse
        content = LogContent(log)
        start = content.beginning()
        cover.empty = content.is_empty
        if log.records:
            last = log.path.endswith(LAST_LOG)
            yield from read_last_log(content.blocks(), origin, self._names) if last else read_log_in_records(content.blocks(), origin)
        elif is_audit_log(start):
            yield from _beating(AuditReader(origin, self._names).events(content.blocks()), pulse)
        elif is_journal_json(start) or is_export(start):
            journal = JournalReader(origin, self._names)
            events = journal.json_events(content.blocks()) if is_journal_json(start) else journal.export_events(content.blocks())
            yield from _beating(events, pulse)
            self.gaps += journal.gaps
            self.unknown += journal.unknown
        elif is_postgresql_log(start):
            database = PostgresqlLogReader(origin, self._zone)
            yield from _beating(database.events(content.blocks()), pulse)
            self.gaps += database.gaps
        elif is_directory_log(start):
            directory = DirectoryLogReader(origin, self._sids)
            yield from _beating(directory.events(content.blocks()), pulse)
            self.gaps += directory.gaps
        elif is_event_xml(start):
            windows = WindowsEventReader(origin, self._sids)
            yield from _beating(windows.events(content.blocks()), pulse)
            self.gaps += windows.gaps
        elif is_sudo_file(start):
            sudo = SudoFileReader(Clock(self._zone, log.by, *_ends(content)), origin)
            yield from _beating(sudo.events(content.blocks()), pulse)
            self.gaps += sudo.gaps
        else:
            syslog = SyslogReader(Clock(self._zone, log.by, *_stamps(content)), origin, pulse)
            yield from syslog.events(content.blocks())
            self.unknown += syslog.unknown


def _beating(events: Iterable[Event], pulse: Pulse) -> Iterator[Event]:
    """Yield the events of a log of which no other line is looked at."""
    for event in events:
        pulse.beat(event.at, event.place.line or 0)
        yield event


def _stamps(content: LogContent) -> tuple[str, str]:
    """Return the first and the last stamp of a log, where the first has no year; else nothing is needed of them."""
    first = first_stamp(content.first_blocks())
    if not first or has_year(first):
        return "", ""
    stamps = [line.stamp for line in lines_that_matter(content.last_blocks())]
    return first, stamps[-1].decode() if stamps else first


def _ends(content: LogContent) -> tuple[str, str]:
    """Return the stamps with which sudo's own log begins and ends."""
    first = decode(next(iter(content.first_blocks()), b"")[:15])
    last = [line for block in content.last_blocks() for line in block.split(b"\n") if line[:1].isalpha()]
    return first, decode(last[-1][:15]) if last else ""
