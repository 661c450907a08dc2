"""At which hours accounts are active, and how unusual an hour is for one of them.

Each account has its own habit, drawn towards that of all as far as it has done little itself.  What is judged takes no part in the habit
that it is judged by: neither do the hours near it, which are of one and the same stretch of work.
"""

from collections.abc import Sequence
from datetime import UTC, datetime, tzinfo
from functools import lru_cache
from itertools import chain
from typing import Any

from fidelitas.numeric import columns
from fidelitas.usage.statistics import BINS, concentration, smoothed, smoothed_rows

__all__ = ["Habits", "bin_of", "is_usual"]

_LEAST = 1e-9  # of the group in each hour
_USUAL, _OWN = 20, 2
_SAME = 1 + 1e-9  # a share that differs by less is as great
# So many hours are worth to be judged in columns of numbers, and so many at once.
_MANY, _AT_ONCE = 200, 2000
_Judged = tuple[int, int, tuple[int, ...]]


@lru_cache(maxsize=50_000)
def bin_of(hour: int, zone: tzinfo) -> int:
    """Return the hour of the day, and 24 more on week-ends, of an hour since 1970."""
    at = datetime.fromtimestamp(hour * 3600, UTC).astimezone(zone)
    return at.hour + (24 if at.weekday() >= 5 else 0)


def is_usual(own: int, everyone: int) -> bool:
    """Return whether an account and all of them are so often active at an hour of the day that nobody need look closer."""
    return own + everyone > _USUAL and own > _OWN


class Habits:
    """The habits of some accounts, from how many of their active hours (accounts, 48) fall on each hour of the day and kind of day."""

    def __init__(self, counts: Sequence[Sequence[int]]) -> None:
        self._counts = counts
        self._group = [sum(column) for column in zip(*counts, strict=True)]
        self._strength = concentration(counts)
        self._spread: dict[int, list[float]] = {}
        self._all = smoothed([count + _LEAST for count in self._group])
        self._without: dict[tuple[int, ...], tuple[list[float], list[float]]] = {}

    def is_usual(self, account: int, hour: int) -> bool:
        """Return whether an hour (of 48) is so usual for an account that it cannot be an anomaly."""
        return is_usual(self._counts[account][hour], self._group[hour])

    def chance(self, account: int, hour: int, near: tuple[int, ...]) -> float:
        """Return the share of hours as unusual as one (of 48) in what an account does; `near` are its stretch, itself with them."""
        if self.is_usual(account, hour):
            return 1.0
        left_out, group = self._beside(near)
        shares = [
            at - less + other if at > less else other for at, less, other in zip(self._spread_of(account), left_out, group, strict=True)
        ]
        limit = shares[hour] * _SAME
        return sum([share for share in shares if share <= limit]) / sum(shares)

    def is_alone(self, hour: int, near: tuple[int, ...]) -> bool:
        """Return whether beside a stretch nobody was ever active at an hour (of 48), or in the hour before it or after it."""
        day, at = hour - hour % 24, hour % 24
        return not any(self._group[one] - near.count(one) for one in (day + (at - 1) % 24, hour, day + (at + 1) % 24))

    def _spread_of(self, account: int) -> list[float]:
        found = self._spread.get(account)
        if found is None:
            found = self._spread[account] = smoothed(self._counts[account])
        return found

    def chances(self, judged: Sequence[_Judged]) -> list[float]:
        """Return the chance of each of some accounts with an hour and the stretch of that: in columns, where there are many."""
        numpy = columns() if len(judged) >= _MANY else None
        if numpy is None:
            return [self.chance(*one) for one in judged]
        spread = smoothed_rows(numpy, self._counts)
        parts = (judged[begin : begin + _AT_ONCE] for begin in range(0, len(judged), _AT_ONCE))
        return [chance for part in parts for chance in self._in_columns(numpy, spread, part)]

    def _in_columns(self, numpy: Any, spread: Any, judged: Sequence[_Judged]) -> list[float]:
        """Return the same: each number is added to the others in the same order."""
        accounts, hours, stretches = zip(*judged, strict=True)
        near = numpy.zeros((len(judged), BINS))
        rows = numpy.repeat(numpy.arange(len(judged)), list(map(len, stretches)))
        numpy.add.at(near, (rows, numpy.fromiter(chain.from_iterable(stretches), numpy.int64)), 1)
        left_out = smoothed_rows(numpy, near)
        group = numpy.maximum(numpy.array(self._all) - left_out, 0.0)
        group = group * (self._strength / _sums(numpy, group))[:, None]
        at = spread[list(accounts)]
        shares = numpy.where(at > left_out, at - left_out + group, group)
        limit = shares[numpy.arange(len(judged)), list(hours)] * _SAME
        chances = _sums(numpy, numpy.where(shares <= limit[:, None], shares, 0.0)) / _sums(numpy, shares)
        return [1.0 if self.is_usual(*one) else chance for *one, chance in zip(accounts, hours, chances.tolist(), strict=True)]

    def _beside(self, near: tuple[int, ...]) -> tuple[list[float], list[float]]:
        """Return a stretch of hours spread over those near them, and what the group's habit without it is worth."""
        found = self._without.get(near)
        if found is None:
            left_out = _spread_of_stretch(near)
            group = [max(one - other, 0.0) for one, other in zip(self._all, left_out, strict=True)]
            worth = self._strength / sum(group)
            found = self._without[near] = left_out, [one * worth for one in group]
        return found


def _sums(numpy: Any, rows: Any) -> Any:
    """Return the sum of each row, added one after another, as where there are few."""
    whole = numpy.zeros(len(rows))
    for column in rows.T:
        whole = whole + column
    return whole


@lru_cache(maxsize=5000)
def _spread_of_stretch(near: tuple[int, ...]) -> list[float]:
    return smoothed([near.count(at) for at in range(BINS)])
