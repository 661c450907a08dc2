"""How much was done when, as a row of bars of one line's height."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import NamedTuple

__all__ = ["Trend", "bars"]

_BARS = "▁▂▃▄▅▆▇█"
_NOTHING = "·"
_MOST_COLUMNS = 13


def bars(counts: Sequence[int]) -> str:
    """Return a bar for each count, the greatest as high as a letter; what is none is a dot."""
    most = max(counts, default=0)
    return "".join(_BARS[(count * len(_BARS) - 1) // most] if count else _NOTHING for count in counts)


class Trend(NamedTuple):
    """A time divided into columns of some days: the first day, how many days a column has, and how many columns there are."""

    first: int
    days: int
    columns: int

    @classmethod
    def over(cls, times: Iterable[datetime]) -> "Trend | None":
        """Return the columns for the time from the first to the last of some; none where that is within two days."""
        known = [at.toordinal() for at in times]
        span = max(known) - min(known) + 1 if known else 0
        if span < 2:
            return None
        days = -(-span // _MOST_COLUMNS)
        return cls(min(known), days, -(-span // days))

    @property
    def title(self) -> str:
        """What a column is, as the title of a column of a table."""
        return "each day" if self.days == 1 else "each week" if self.days == 7 else f"each {self.days} days"

    def of(self, counts: Mapping[int, int]) -> str:
        """Return the bars of counts by day."""
        columns = [0] * self.columns
        for day, count in counts.items():
            at = (day - self.first) // self.days
            if 0 <= at < self.columns:
                columns[at] += count
        return bars(columns)
