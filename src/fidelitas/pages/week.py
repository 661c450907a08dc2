"""The picture of use: how often privilege was used at which hour of which day of the week."""

from collections import Counter
from collections.abc import Iterable, Mapping
from datetime import datetime, tzinfo

from msgspec import Struct

__all__ = ["DAYS", "Hour", "Week", "week_of"]

DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
_LEVELS = 4
_SECONDS = 15 * 60


class Hour(Struct, frozen=True):
    """One hour of one day of the week: its row (0 is Monday) and column, how many uses, and a level from 1 to 4 by the busiest."""

    day: int
    hour: int
    count: int
    level: int


class Week(Struct, frozen=True):
    """Uses by day and hour of a time zone, those without any left out; `begin` and `end` are the days of the first and the last."""

    hours: tuple[Hour, ...] = ()
    zone: str = ""
    begin: str = ""
    end: str = ""

    @property
    def total(self) -> int:
        """How many uses there were."""
        return sum(one.count for one in self.hours)

    @property
    def outside(self) -> int:
        """How many of them were on a Saturday or Sunday, or from 20 to 6 o'clock."""
        return sum(one.count for one in self.hours if one.day > 4 or not 6 <= one.hour < 20)


def week_of(quarters: Iterable[Mapping[int, int]], zone: tzinfo) -> Week:
    """Return the picture of uses by quarter of an hour since 1970 (UTC), as a clock of a zone shows them."""
    every: Counter[int] = Counter()
    for some in quarters:
        every.update(some)
    if not every:
        return Week()
    local = {datetime.fromtimestamp(quarter * _SECONDS, zone): count for quarter, count in sorted(every.items())}
    counts: Counter[tuple[int, int]] = Counter()
    for at, count in local.items():
        counts[at.weekday(), at.hour] += count
    first, last = next(iter(local)), next(reversed(local))
    busiest = max(counts.values())
    hours = (Hour(day, hour, count, -(-_LEVELS * count // busiest)) for (day, hour), count in sorted(counts.items()))
    return Week(tuple(hours), last.tzname() or "", f"{first:%Y-%m-%d}", f"{last:%Y-%m-%d}")
