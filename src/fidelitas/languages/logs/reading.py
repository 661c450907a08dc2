"""Logs of one host, whichever form each has, as one stream of events in the order of time.

Nothing is kept but what the end of the stream is asked for: what each log covers, and what could not be read.  Where the logs will go on,
the stream has a `steady` part, which stays as it is whatever lines are added, and a rest: what is known between them is where a later
reading goes on from.
"""

from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime, tzinfo
from heapq import heapify, heappop, heapreplace
from itertools import chain, islice
from typing import Any

from msgspec import Struct, field

from fidelitas.errors import ReadError
from fidelitas.facts import Event, Gap, Place
from fidelitas.languages.logs.aside import Aside, Passing
from fidelitas.languages.logs.content import LogContent, LogLike
from fidelitas.languages.logs.counted import Counted
from fidelitas.languages.logs.deduplication import Deduplication, Sourced
from fidelitas.languages.logs.forms import LAST_LOG
from fidelitas.languages.logs.in_hand import Cover, InHand, KnownHost, Stopped, extent_of
from fidelitas.languages.logs.login_names import LoginNames
from fidelitas.languages.logs.shares import WHOLE, Share
from fidelitas.languages.logs.so_far import Extent
from fidelitas.languages.logs.sudo_file import tells_calls
from fidelitas.trouble import internal_error

__all__ = ["LASTING", "ChangedError", "Cover", "LogLike", "LogReading", "ReadingState"]

_EARLIEST = datetime(1970, 1, 1, tzinfo=UTC)
# So many events of a family may be later than what is steady.
_MOST_PENDING = 10_000


class ChangedError(Exception):
    """The logs are not those that were read before, with lines added at their ends: they have to be read from their begin."""


class FamilyState(Struct):
    """Where the reading of a family stands: its logs that were read to their ends, the last one, and events that are not steady yet."""

    name: str
    ended: list[tuple[str, Extent]]
    stopped: Stopped
    at: datetime
    pending: list[Sourced]


class ReadingState(Struct):
    """Where the reading of some logs stands after what is steady before a time."""

    until: datetime
    families: list[FamilyState]
    covers: list[Cover]
    unknown: Counter[str]
    gaps: list[Gap]
    counted: Counted
    names: tuple[Any, ...]
    once: Deduplication

    @property
    def size(self) -> int:
        """How many bytes of logs were read."""
        return sum(extent.size for family in self.families for extent in (family.stopped.extent, *(extent for _, extent in family.ended)))


class _Family(Struct):
    """The logs of one family while they are read, in the order in which they come; `last` is that which may go on.

    Where an earlier reading is gone on with, `resumed` is the log in which it stood, and `coming` are those behind it.
    """

    name: str
    logs: Sequence[LogLike]
    number: int
    called: bool = False
    at: datetime = _EARLIEST
    ended: list[tuple[str, Extent]] = field(default_factory=list)
    last: InHand | None = None
    resumed: InHand | None = None
    coming: Sequence[LogLike] = ()
    pending: list[Sourced] = field(default_factory=list)
    more: Iterator[Sourced] = field(default_factory=lambda: iter(()))

    def left(self) -> Iterator[Sourced]:
        """Yield what waits, and forget it."""
        waiting, self.pending = self.pending, []
        more, self.more = self.more, iter(())
        return chain(waiting, more)

    def sourced(self, events: Iterable[Event]) -> Iterator[Sourced]:
        """Yield events with when they were; one without a time stands where its neighbours do."""
        for event in events:
            self.at = event.at or self.at
            yield Sourced(self.at, self.number, event, self.called)


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
        until: datetime | None = None,
        aside: Aside | None = None,
        called: Collection[str] = (),
    ) -> None:
        """`zone` is the host's; `names` are its accounts by user ID, `sids` those of Windows by SID, where they are known.  It is
        `called` by names besides that of the logs' subject.

        Of logs of many hosts the events of a `share` of them are read, but what the logs cover is told of all.  Where events are not asked
        for `singly`, ordinary logins of which nothing but their number matters may be `counted` by host in place of being yielded, and the
        last logins of accounts (lastlog) are no events: `last_logins` are; and of the events of one log `aside` may take some in their
        place between the others.  `until` is a time by which every line was written that is
        there: what is before it is steady.
        """
        families: dict[tuple[int, str], list[LogLike]] = {}
        apart: list[LogLike] = []
        order: list[tuple[int, str]] = []
        for log in logs:
            order.append((log.survey, log.path))
            if not singly and log.records and log.path.endswith(LAST_LOG):
                apart.append(log)
            else:
                families.setdefault((log.survey, log.family), []).append(log)
        self._surveys = [survey for survey, _ in families]
        self._families = [_Family(family, of, number, coming=of) for number, ((_, family), of) in enumerate(families.items())]
        self._apart, self._until = apart, until
        self._order = order
        self._steady = until is not None and len(set(self._surveys)) == 1
        self._logins = LoginNames([*(names or {}).values(), *(sids or {}).values()], one_host=not share.many)
        self._once = Deduplication(self._surveys or [0])
        self.unknown: Counter[str] = Counter()
        self.gaps: list[Gap] = []
        self.unread: list[ReadError] = []
        self.covers: list[Cover] = []
        self.gone: list[Event] = []
        self.counted = Counted()
        # Of several logs one is compared with the other.
        counted = self.counted if not singly and len(families) == 1 else None
        self._aside = None if counted is None or aside is None else Passing(aside, self._logins)
        self._host = KnownHost(
            zone=zone, names=names or {}, sids=sids or {}, called=called, share=share, counted=counted, aside=self._aside
        )

    def events(self) -> Iterator[Event]:
        """Yield all events by time; what two logs tell alike once."""
        yield from self.steady()
        yield from self.rest()

    def steady(self) -> Iterator[Event]:
        """Yield the events that no line can change that is added to the logs, as far as that is known."""
        if self._aside is not None:
            self._aside.ready = True  # what was read of logs that are gone on with comes before
        streams = [chain(family.left(), family.sourced(self._steady_of(family))) for family in self._families]
        yield from self._merged(streams, self._until if self._steady else None, last=False)

    def rest(self) -> Iterator[Event]:
        """Yield the others."""
        streams = [chain(family.left(), family.sourced(self._rest_of(family))) for family in self._families]
        yield from self._merged(streams, None, last=True)
        self.gaps.sort(key=lambda gap: (gap.place.path, gap.place.line or 0))
        self.covers.sort(key=lambda cover: self._order.index((cover.survey, cover.path)))
        self.gone = [one.event for one in self._once.missed if self._again(one)]

    def last_logins(self) -> Iterator[Event]:
        """Yield the last login of each account that a log of nothing else has."""
        for log in self._apart:
            yield from self._guarded(log, self._whole(log))

    # -- going on later ------------------------------------------------------------------------------------------------------------

    def state(self) -> ReadingState | None:
        """Return where the reading stands between what is steady and the rest; ``None`` where a later one cannot go on from there."""
        if not self._steady or self._until is None or not self._families or self.unread or any(gap.fatal for gap in self.gaps):
            return None
        families = [state for family in self._families for state in (_state_of(family),) if state is not None]
        if len(families) < len(self._families):
            return None
        names = self._logins.lasting
        return ReadingState(self._until, families, self.covers, self.unknown, self.gaps, self.counted, names, self._once)

    def moved(self, before: ReadingState) -> dict[str, str]:
        """Return under which paths logs are now that were read before; those alone that were rotated.

        Raises `ChangedError` where that cannot be: what is read of a family begins with what was read of it, log by log.
        """
        found: dict[str, str] = {}
        if [family.name for family in self._families] != [family.name for family in before.families]:
            raise ChangedError
        for family, state in zip(self._families, before.families, strict=True):
            paths = [*(path for path, _ in state.ended), state.stopped.path]
            if len(paths) > len(family.logs):
                raise ChangedError
            for path, log in zip(paths, family.logs, strict=False):
                if found.setdefault(path, log.path) != log.path:
                    raise ChangedError  # two logs had one name
        return {path: now for path, now in found.items() if now != path}

    def go_on(self, before: ReadingState) -> None:
        """Go on where the reading of earlier copies of the logs stood; raises `ChangedError` where these are others.

        Where logs were `moved`, what is given says so already.
        """
        if not self._steady:
            raise ChangedError
        self.covers, self.unknown, self.gaps = before.covers, before.unknown, before.gaps
        self.counted.events, self.counted.logins, self.counted.met = before.counted.events, before.counted.logins, before.counted.met
        self._logins.lasting, self._once = before.names, before.once
        self._once.surveys = self._surveys
        for cover in self.covers:
            cover.survey = self._surveys[0]
        for family, state in zip(self._families, before.families, strict=True):
            self._go_on_in(family, state, before.until)

    def _go_on_in(self, family: _Family, state: FamilyState, until: datetime) -> None:
        count = len(state.ended)
        last = family.logs[count]
        covers = [cover for cover in self.covers if cover.family == family.name]
        same = zip(family.logs, state.ended, strict=False)
        if len(covers) != count + 1 or any(extent_of(log) != extent for log, (_, extent) in same):
            raise ChangedError
        for cover, log in zip(covers, family.logs, strict=False):
            cover.path = log.path
        in_hand = InHand(last, self._host, covers[count])
        if not in_hand.goes_on_from(state.stopped):
            raise ChangedError
        family.ended = [(log.path, extent) for log, (_, extent) in zip(family.logs, state.ended, strict=False)]
        family.resumed, family.coming = in_hand, family.logs[count + 1 :]
        family.at, family.pending, family.called = state.at, state.pending, _tells_calls(last)
        # What was written since comes behind what was yielded, or would have been yielded before it.
        family.more = family.sourced(self._steady_of(family))
        for one in family.more:
            family.pending.append(one)
            place = one.event.place
            if last.records or place.path != last.path or (place.line or 0) > state.stopped.extent.lines:
                if one.at < until:
                    raise ChangedError
                break

    # -- the stream ----------------------------------------------------------------------------------------------------------------

    def _merged(self, streams: Sequence[Iterator[Sourced]], until: datetime | None, *, last: bool) -> Iterator[Event]:
        if len(streams) < 2:
            yield from (self._logins.shown(one.event) for stream in streams for one in stream)
        else:
            yield from self._once.told_once(map(self._shown, self._by_time(streams, until)), last=last)

    def _shown(self, one: Sourced) -> Sourced:
        event = self._logins.shown(one.event)
        return one if event is one.event else one._replace(event=event)

    def _by_time(self, streams: Sequence[Iterator[Sourced]], until: datetime | None) -> Iterator[Sourced]:
        """Yield what comes before a time, the earliest of all streams first; what is left of each waits."""
        first = [next(stream, None) for stream in streams]
        coming = [(one.at, number, one) for number, one in enumerate(first) if one is not None]
        heapify(coming)
        for number, one in enumerate(first):
            until = self._before_what_waits(number, until) if one is None else until
        while coming and (until is None or coming[0][0] < until):
            _, number, one = coming[0]
            yield one
            after = next(streams[number], None)
            if after is None:
                heappop(coming)
                until = self._before_what_waits(number, until)
            else:
                heapreplace(coming, (after.at, number, after))
        for _, number, one in coming:
            family, stream = self._families[number], streams[number]
            family.pending, family.more = [one, *islice(stream, _MOST_PENDING)], stream
            self._steady = self._steady and len(family.pending) <= _MOST_PENDING

    def _before_what_waits(self, number: int, until: datetime | None) -> datetime | None:
        """Return a time, or that of what waits in a log: other logs may have it as well."""
        last = self._families[number].last
        since = last.since if last is not None else None
        return until if until is None or since is None else min(until, since)

    def _again(self, one: Sourced) -> bool:
        """Return whether a log that was collected again later covers the time of an event that only its earlier copy tells."""
        survey, family = self._surveys[one.family], self._families[one.family].name
        return any(
            cover.family == family and cover.survey > survey and cover.pulse.first is not None and cover.pulse.last is not None
            and cover.pulse.first <= one.at <= cover.pulse.last
            for cover in self.covers
        )  # fmt: skip

    def _steady_of(self, family: _Family) -> Iterator[Event]:
        """Yield the events of a family, but of its last log those alone that the next lines cannot add to."""
        resumed, coming = family.resumed, family.coming
        family.resumed, family.coming = None, ()  # they are read once
        if resumed is not None:
            yield from self._guarded(resumed.log, self._so_far(family, resumed))
        for log in coming:
            family.called = _tells_calls(log)
            yield from self._guarded(log, self._of_family(family, log))

    def _of_family(self, family: _Family, log: LogLike) -> Iterator[Event]:
        in_hand = self._begun(log)
        self._steady = self._steady and in_hand.may_go_on
        if self._steady and self._until is not None:
            yield from self._so_far(family, in_hand)
        else:
            yield from in_hand.events()
            self._end(in_hand)

    def _so_far(self, family: _Family, in_hand: InHand) -> Iterator[Event]:
        """Yield the events of a log to its end, of the last one to the end that it has so far."""
        if in_hand.log is family.logs[-1]:
            family.last = in_hand
            yield from in_hand.events_so_far(self._until or _EARLIEST)
        else:
            yield from in_hand.events_so_far(self._until or _EARLIEST)
            yield from in_hand.rest()
            self._end(in_hand)
            family.ended.append((in_hand.log.path, in_hand.extent()))

    def _rest_of(self, family: _Family) -> Iterator[Event]:
        if family.last is not None:
            yield from self._guarded(family.last.log, family.last.rest())
            self._end(family.last)

    def _whole(self, log: LogLike) -> Iterator[Event]:
        in_hand = self._begun(log)
        yield from in_hand.events()
        self._end(in_hand)

    def _begun(self, log: LogLike) -> InHand:
        cover = Cover(log.subject, log.path, log.family, log.survey)
        self.covers.append(cover)
        return InHand(log, self._host, cover)

    def _end(self, in_hand: InHand) -> None:
        self.gaps += getattr(in_hand.reader, "gaps", ())
        self.unknown += getattr(in_hand.reader, "unknown", Counter())

    def _guarded(self, log: LogLike, events: Iterator[Event]) -> Iterator[Event]:
        """Yield the events of one log; one that cannot be read costs only itself, and what was read of it before counts."""
        try:
            yield from events
        except ReadError as error:
            self.unread.append(error)
        except Exception as error:  # noqa: BLE001 whatever it is
            place = Place(subject=log.subject, path=log.path)
            self.gaps.append(internal_error(error, place, f"reading {log.path}", "the use of privilege that it records"))


def _tells_calls(log: LogLike) -> bool:
    try:
        return tells_calls(LogContent(log).beginning())
    except ReadError:  # reported when it is read
        return False


def _state_of(family: _Family) -> FamilyState | None:
    stopped = family.last.stopped() if family.last is not None else None
    return None if stopped is None else FamilyState(family.name, family.ended, stopped, family.at, family.pending)


# What is kept of logs that go on.
LASTING = (ReadingState, FamilyState, Counted)
