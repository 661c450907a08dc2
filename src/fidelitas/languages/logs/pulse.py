"""How steadily a log was written: lines by hour, and places where its time runs backwards."""

from collections import Counter
from datetime import UTC, datetime, timedelta
from typing import Any

from msgspec import Struct, field

from fidelitas.facts import TimeJump
from fidelitas.languages.logs.stamps import at_of, microseconds

__all__ = ["Pulse"]

# Lines of several programs, and of a clock that is set right, are now and then out of order by this much.
_DISORDER = timedelta(minutes=2)
_DISORDER_IN_COLUMNS = _DISORDER // timedelta(microseconds=1)
_HOUR_IN_COLUMNS = timedelta(hours=1) // timedelta(microseconds=1)
_MOST_JUMPS = 100
_START = datetime(1970, 1, 1, tzinfo=UTC)


class Pulse(Struct):
    """Of one log: when its first and last lines were written, how many in which hour (since 1970, UTC), and its jumps back in time."""

    first: datetime | None = None
    last: datetime | None = None
    hours: Counter[int] = field(default_factory=Counter)
    jumps: list[TimeJump] = field(default_factory=list)
    _hour: datetime = _START
    _end: datetime = _START
    _number: int = 0
    _latest: datetime = _START

    def beat(self, at: datetime | None, line: int) -> None:
        """Count a line."""
        if at is None:
            return
        if not self._hour <= at <= self._end:
            self._turn(at)
        self.hours[self._number] += 1
        if at >= self._latest:
            self._goes_on(at)
        elif self._latest - at > _DISORDER:
            if len(self.jumps) < _MOST_JUMPS:
                self.jumps.append(TimeJump(line=line, before=self._latest, after=at))
            self._latest = at

    def beat_in_columns(self, numpy: Any, times: Any, numbers: Any) -> None:
        """Count lines in their order, as if one by one; `times` are microseconds since 1970; both are arrays of NumPy, not empty."""
        latest = numpy.maximum.accumulate(numpy.append(microseconds(self._latest), times))
        if (latest[:-1] - times > _DISORDER_IN_COLUMNS).any():
            for at, number in zip(times.tolist(), numbers.tolist(), strict=True):
                self.beat(at_of(at), number)
            return
        hours = times // _HOUR_IN_COLUMNS
        begins = numpy.append(0, numpy.flatnonzero(hours[1:] != hours[:-1]) + 1)
        goes_on = self._hour <= at_of(int(times[0])) <= self._end
        for hour, count in zip(hours[begins].tolist(), numpy.diff(numpy.append(begins, len(times))).tolist(), strict=True):
            self.hours[hour] += count
        turns = times[begins[1:] if goes_on else begins]
        if len(turns):
            self._turn(at_of(int(turns[-1])))
            self.first = min(self.first or self._hour, at_of(int(turns.min())))
        if latest[-1] == times.max():
            self._goes_on(at_of(int(latest[-1])))

    def _goes_on(self, at: datetime) -> None:
        self._latest = at
        if self.last is None or at > self.last:
            self.last = at

    def _turn(self, at: datetime) -> None:
        self._hour = at.replace(minute=0, second=0, microsecond=0)
        self._end = at.replace(minute=59, second=59, microsecond=999_999)
        self._number = int(self._hour.timestamp()) // 3600
        self.first = at if self.first is None else min(self.first, at)
        self.last = at if self.last is None else max(self.last, at)
