"""How steadily a log was written: lines by hour, and places where its time runs backwards."""

from collections import Counter
from datetime import UTC, datetime, timedelta

from msgspec import Struct, field

from fidelitas.facts import TimeJump

__all__ = ["Pulse"]

# Lines of several programs, and of a clock that is set right, are now and then out of order by this much.
_DISORDER, _MINUTE = timedelta(minutes=2), timedelta(minutes=1)
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

    def is_steady(self, at: datetime) -> bool:
        """Return whether no other time of the minute of one, which was counted last, can be a jump."""
        return self._latest - at <= _DISORDER - _MINUTE

    def more(self, count: int, at: datetime | None) -> None:
        """Count lines of the same minute as the last line that was counted, where that is steady; `at` is the latest of them."""
        self.hours[self._number] += count
        if at is not None and at >= self._latest:
            self._goes_on(at)

    def _goes_on(self, at: datetime) -> None:
        self._latest = at
        if self.last is None or at > self.last:
            self.last = at

    def many(self, at: datetime | None, count: int) -> None:
        """Count lines of an hour whose order is not known."""
        if at is not None:
            self.hours[int(at.timestamp()) // 3600] += count
            self.first = at if self.first is None else min(self.first, at)
            self.last = at if self.last is None else max(self.last, at)

    def _turn(self, at: datetime) -> None:
        self._hour = at.replace(minute=0, second=0, microsecond=0)
        self._end = at.replace(minute=59, second=59, microsecond=999_999)
        self._number = int(self._hour.timestamp()) // 3600
        self.first = at if self.first is None else min(self.first, at)
        self.last = at if self.last is None else max(self.last, at)
