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
from fidelitas.languages.logs.content import LogContent, LogLike
from fidelitas.languages.logs.counted import Counted
from fidelitas.languages.logs.deduplication import Sourced, deduplicate
from fidelitas.languages.logs.forms import KnownLog, events_of
from fidelitas.languages.logs.login_names import LoginNames
from fidelitas.languages.logs.pulse import Pulse
from fidelitas.languages.logs.shares import WHOLE, OfShare, Share
from fidelitas.languages.logs.sudo_file import tells_calls
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
        self,
        logs: Iterable[LogLike],
        zone: tzinfo,
        names: Mapping[int, str] | None = None,
        sids: Mapping[str, str] | None = None,
        share: Share = WHOLE,
        *,
        singly: bool = True,
    ) -> None:
        """`zone` is the host's; `names` are its accounts by user ID, `sids` those of Windows by SID, where they are known.

        Of logs of many hosts the events of a `share` of them are read, but what the logs cover is told of all.  Where events are not asked
        for `singly`, ordinary logins of which nothing but their number matters may be `counted` by host in place of being yielded.
        """
        self._families: dict[tuple[int, str], list[LogLike]] = {}
        for log in logs:
            self._families.setdefault((log.survey, log.family), []).append(log)
        self._zone = zone
        self._share = share
        self._names = names or {}
        self._sids = sids or {}
        self._logins = LoginNames([*self._names.values(), *self._sids.values()], one_host=not share.many)
        self.unknown: Counter[str] = Counter()
        self.gaps: list[Gap] = []
        self.unread: list[ReadError] = []
        self.covers: list[Cover] = []
        self.gone: list[Event] = []
        self.counted = Counted()
        self._counts = not singly and len(self._families) == 1  # of several logs one is compared with the other

    def events(self) -> Iterator[Event]:
        """Yield all events by time; what two logs tell alike once."""
        if len(self._families) < 2:
            for log in (log for logs in self._families.values() for log in logs):
                yield from self._of_log(log)
            return
        streams = [self._family(number, logs) for number, logs in enumerate(self._families.values())]
        surveys = [survey for survey, _ in self._families]
        missed: list[Sourced] = []
        yield from deduplicate(heapq.merge(*streams, key=lambda one: one.at), missed, surveys)
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
            try:
                called = tells_calls(LogContent(log).beginning())
            except ReadError:  # told when it is read
                called = False
            for event in self._of_log(log):
                at = event.at or at  # one without a time stands where its neighbours do
                yield Sourced(at, number, event, called)

    def _of_log(self, log: LogLike) -> Iterator[Event]:
        """Yield the events of one log; one that cannot be read costs only itself, and what was read of it before counts."""
        cover = Cover(log.subject, log.path, log.family, log.survey)
        self.covers.append(cover)
        try:
            yield from map(self._logins.shown, self._events(log, cover))
        except ReadError as error:
            self.unread.append(error)
        except Exception as error:  # noqa: BLE001 whatever it is
            place = Place(subject=log.subject, path=log.path)
            self.gaps.append(internal_error(error, place, f"reading {log.path}", "the use of privilege that it records"))

    def _events(self, log: LogLike, cover: Cover) -> Iterator[Event]:
        content = LogContent(log)
        cover.empty = content.is_empty
        known = KnownLog(
            origin=Place(subject=log.subject, path=log.path),
            content=content,
            by=log.by,
            zone=self._zone,
            names=self._names,
            sids=self._sids,
            pulse=cover.pulse,
            share=self._share,
            counted=self.counted if self._counts else None,
        )
        reader, events = events_of(known, records=log.records)
        of_share = OfShare(self._share)
        yield from events if self._share.of == 1 else (one for one in events if of_share[one.host or log.subject])
        self.gaps += getattr(reader, "gaps", ())
        self.unknown += getattr(reader, "unknown", Counter())
