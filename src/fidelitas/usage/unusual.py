"""The anomalies of a host by numbers: each with what was expected, what was observed, and how probable that is by chance.

Every account is compared with its own habit, drawn towards that of all accounts of the host as far as it has done little itself.  Of many
tests some come out by chance: `discoveries` keeps the share of those small.
"""

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from itertools import groupby
from statistics import fmean, median

from fidelitas.facts import Place
from fidelitas.usage.habits import Habits, bin_of
from fidelitas.usage.host_use import Failures, First, HostUse
from fidelitas.usage.statistics import (
    BINS,
    burst_tail,
    discoveries,
    novelty_tail,
    silence_tail,
    smoothed,
)

__all__ = ["Burst", "Novelty", "OddHour", "Silence", "bin_of", "bursts", "log_silences", "may_tell_silences", "novelties", "odd_hours"]

# Of what is reported, this share may be chance; of odd hours more, which are a hint and no more.
_FALSE_SHARE = 0.01
_FALSE_SHARE_OF_HOURS = 0.1
# The least time that gives a rate, in hours: a log of an hour has no habit.
_WEEK = 168
_MOST_HOURS = 24 * 366 * 3
# A new thing is reported where one use in so many, or fewer, is new by the account's own record.
_NOVEL = 0.02
_MISTYPED = 3.0
_NEAR = 6  # hours that are of one stretch of work
_LEAST_ACTIVE = 15  # hours of activity from which an account's or a host's habit is worked out


@dataclass(frozen=True, slots=True)
class Burst:
    """Wrong passwords of one account within an hour."""

    account: str
    hour: int
    found: Failures
    expected: float
    chance: float


@dataclass(frozen=True, slots=True)
class OddHour:
    """Uses at an hour outside an account's habit, the first with a `command`; `share` is that of its activity expected at such hours."""

    person: str
    hour: int
    count: int
    command: str
    place: Place
    share: float
    expected: float


@dataclass(frozen=True, slots=True)
class Novelty:
    """The first use of a command or right by an account with a habit."""

    first: First
    chance: float


@dataclass(frozen=True, slots=True)
class Silence:
    """A time in which a log holds nothing, though so many lines were expected; `last` where it goes on to the end."""

    family: str
    begin: datetime
    end: datetime
    expected: float
    chance: float
    last: bool


def _span(hours: Iterable[int]) -> int:
    known = list(hours)
    return max(_WEEK, max(known) - min(known) + 1) if known else _WEEK


def bursts(use: HostUse) -> list[Burst]:
    """Return the hours in which an account met far more wrong passwords than explained by its habit."""
    rows = [(account, hour, found) for account, hours in use.failures.items() for hour, found in hours.items()]
    if not rows:
        return []
    span = _span([hour for _, hour, _ in rows] + [hour for hours in use.active.values() for hour in hours])
    accounts = len(set(use.failures) | set(use.active))
    own = {account: sum(one.count for one in hours.values()) for account, hours in use.failures.items()}
    rate, shape = _habit_of_failures([found.count for _, _, found in rows], accounts * span)
    expected = [
        (min(own[account] - found.count, 3 * span * rate + own[account] * 0.5) + rate * span) / (2 * span) for account, _, found in rows
    ]
    chances = [burst_tail(found.count, mean, shape) for (_, _, found), mean in zip(rows, expected, strict=True)]
    kept = discoveries(chances, accounts * span, _FALSE_SHARE)
    return [
        Burst(account, hour, found, mean, chance)
        for (account, hour, found), mean, chance, keep in zip(rows, expected, chances, kept, strict=True)
        if keep
    ]


def _habit_of_failures(counts: Sequence[int], hours: int) -> tuple[float, float]:
    """Return how many wrong passwords an account meets in an hour, and the shape of the scatter, without what is itself an anomaly."""
    # Where few hours have failures, no more than people mistype.
    limit = max(_MISTYPED, median(counts) if len(counts) >= _LEAST_ACTIVE else 0.0)
    typical = [min(count, limit) for count in counts]
    rate = (sum(typical) + 1) / hours
    variance = (sum(count**2 for count in typical) + 1) / hours
    return rate, rate**2 / max(variance - rate, rate * 0.1)


def odd_hours(use: HostUse) -> list[OddHour]:
    """Return the hours outside an account's habit in which it used privilege, or tried to."""
    people = sorted(use.active)
    if not people:
        return []
    table = [[0] * BINS for _ in people]
    bins = {hour: bin_of(hour, use.zone) for hours in use.active.values() for hour in hours}
    for row, person in enumerate(people):
        for hour in use.active[person]:
            table[row][bins[hour]] += 1
    if sum(map(sum, table)) < _LEAST_ACTIVE:
        return []
    habits = Habits(table)
    rows = [(row, hour, near) for row, person in enumerate(people) for hour, near in _stretches(use.active[person])]
    usual = [[habits.is_usual(row, at) for at in range(BINS)] for row in range(len(people))]
    chances = [
        1.0 if usual[row][bins[hour]] else habits.chance(row, bins[hour], tuple(sorted([bins[other] for other in near])))
        for row, hour, near in rows
    ]
    kept = discoveries(chances, len(rows), _FALSE_SHARE_OF_HOURS)
    return [
        OddHour(people[row], hour, use.active[people[row]][hour], *use.active_at[people[row], hour], chance, chance * sum(table[row]))
        for (row, hour, _), chance, keep in zip(rows, chances, kept, strict=True)
        if keep  # never what is usual, of which no place is kept
    ]


def _stretches(active: Iterable[int]) -> Iterator[tuple[int, Sequence[int]]]:
    """Yield each hour with those near it, itself among them."""
    hours = sorted(active)
    begin = end = 0
    for hour in hours:
        while hours[begin] < hour - _NEAR:
            begin += 1
        while end < len(hours) and hours[end] <= hour + _NEAR:
            end += 1
        yield hour, hours[begin:end]


def novelties(use: HostUse) -> list[Novelty]:
    """Return first uses that an account's own record makes improbable."""
    found = [Novelty(first, novelty_tail(first.uses, first.once, first.known)) for first in use.firsts]
    return [one for one in found if one.chance <= _NOVEL]


def log_silences(use: HostUse) -> Iterator[Silence]:
    """Yield stretches in which a log that is written steadily holds nothing."""
    families: dict[str, Counter[int]] = {}
    for log in use.logs:
        families.setdefault(log.family, Counter()).update(log.hours)
    for family, hours in families.items():
        yield from _silent(family, hours, use)


def may_tell_silences(use: HostUse) -> bool:
    """Return whether a host's own logs have enough hours with lines for a stretch without any to be noticed."""
    families: dict[str, set[int]] = {}
    for log in use.logs:
        families.setdefault(log.family, set()).update(log.hours)
    return any(len(hours) >= _LEAST_ACTIVE for hours in families.values())


def _silent(family: str, hours: Counter[int], use: HostUse) -> Iterator[Silence]:
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
