"""Stretches in which the logs of a host hold nothing, though they are written steadily."""

from collections import Counter
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime, tzinfo
from itertools import groupby
from statistics import fmean
from typing import Protocol

from msgspec import Struct

from fidelitas.facts import TimeJump
from fidelitas.usage.habits import bin_of
from fidelitas.usage.statistics import BINS, discoveries, silence_tail, smoothed

__all__ = ["LogState", "Silence", "log_silences", "may_tell_silences"]

_FALSE_SHARE = 0.01  # of what is reported, this share may be chance
_MOST_HOURS = 24 * 366 * 3
_LEAST_ACTIVE = 15  # hours with lines from which what is usual is worked out


class LogState(Struct, frozen=True, kw_only=True):
    """One log as it was read: from when to when, its lines by hour, jumps back in time, and whether it was empty.

    `of_others` says that nothing in it is of the host that it was on, but of others that write to it.
    """

    path: str
    family: str
    first: datetime | None
    last: datetime | None
    hours: Counter[int]
    jumps: Sequence[TimeJump]
    empty: bool
    survey: int
    of_others: bool = False


class _Logged(Protocol):
    """A host with its logs, until when they were collected, and the zone of its clock."""

    logs: list[LogState]
    until: datetime | None
    zone: tzinfo


class Silence(Struct, frozen=True):
    """A time in which a log holds nothing, though so many lines were expected; `last` where it goes on to the end."""

    family: str
    begin: datetime
    end: datetime
    expected: float
    chance: float
    last: bool


def log_silences(use: _Logged) -> Iterator[Silence]:
    """Yield stretches in which a log that is written steadily holds nothing."""
    families: dict[str, Counter[int]] = {}
    for log in use.logs:
        families.setdefault(log.family, Counter()).update(log.hours)
    for family, hours in families.items():
        yield from _silent(family, hours, use)


def may_tell_silences(use: _Logged) -> bool:
    """Return whether a host's own logs have enough hours with lines for a stretch without any to be noticed."""
    families: dict[str, set[int]] = {}
    for log in use.logs:
        families.setdefault(log.family, set()).update(log.hours)
    return any(len(hours) >= _LEAST_ACTIVE for hours in families.values())


def _silent(family: str, hours: Counter[int], use: _Logged) -> Iterator[Silence]:
    if len(hours) < _LEAST_ACTIVE or max(hours) - min(hours) > _MOST_HOURS:
        return
    first, last = min(hours), max(hours)
    end = max(last, int(use.until.timestamp()) // 3600 - 1 if use.until is not None else last)
    end = min(end, first + _MOST_HOURS)
    counts = [hours.get(hour, 0) for hour in range(first, end + 1)]
    known = last - first + 1
    expected, shape = _steadiness(counts[:known], [bin_of(hour, use.zone) for hour in range(first, end + 1)])
    days = [sum(counts[at : at + 24]) for at in range(0, known // 24 * 24, 24)]
    daily, day_shape = _steadiness(days, [0] * len(days))
    runs = list(_runs(counts))
    chances = []
    for begin, stop in runs:
        chance = silence_tail(expected[begin:stop], shape)
        whole = (stop - begin) // 24
        chances.append(max(chance, silence_tail(daily[:1] * whole, day_shape)) if whole else chance)
    for (begin, stop), chance, keep in zip(runs, chances, discoveries(chances, len(counts), _FALSE_SHARE), strict=True):
        if keep and chance < 1e-4:
            yield Silence(
                family,
                datetime.fromtimestamp((first + begin) * 3600, UTC),
                datetime.fromtimestamp((first + stop) * 3600, UTC),
                sum(expected[begin:stop]),
                chance,
                first + stop > last,
            )


def _steadiness(counts: Sequence[int], bins: Sequence[int]) -> tuple[list[float], float]:
    """Return what is expected in each of some hours or days by their bin, and the shape of the scatter about it."""
    if not counts:
        return [1e-9] * len(bins), 1e-3
    means = _means(counts, bins)
    expected = [means[at] for at in bins]
    spread = fmean((count - mean) ** 2 - mean for count, mean in zip(counts, expected, strict=False))
    shape = fmean(mean**2 for mean in expected) / max(spread, 1e-6)
    return [max(mean, 1e-9) for mean in expected], min(max(shape, 1e-3), 1e6)


def _means(counts: Sequence[int], bins: Sequence[int]) -> list[float]:
    """Return the mean count of each bin, with the hours near it; of all where there is one bin only."""
    if not any(bins):
        return [fmean(counts)] * BINS
    sums, sizes = [0.0] * BINS, [0.0] * BINS
    for count, at in zip(counts, bins, strict=False):
        sums[at] += count
        sizes[at] += 1
    return [one / max(size, 1e-9) for one, size in zip(smoothed(sums), smoothed(sizes), strict=True)]


def _runs(counts: Sequence[int]) -> Iterator[tuple[int, int]]:
    """Yield the stretches of zeros, as first and first after."""
    at = 0
    for zero, stretch in groupby(counts, key=lambda count: count == 0):
        size = len(list(stretch))
        if zero:
            yield at, at + size
        at += size
