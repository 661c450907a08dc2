"""The anomalies of a host by numbers: each with what was expected, what was observed, and how probable that is by chance.

Every account is compared with its own habit, drawn towards that of all accounts of the host as far as it has done little itself.  Of many
tests some come out by chance: `discoveries` keeps the share of those small.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from statistics import median

from msgspec import Struct, field

from fidelitas.facts import Place
from fidelitas.usage.active_hours import ActiveHours
from fidelitas.usage.failures import FailedAttempts, Failures, Spray
from fidelitas.usage.habits import Habits, bin_of
from fidelitas.usage.novelties import Novelty
from fidelitas.usage.statistics import BINS, burst_tail, discoveries

__all__ = ["Burst", "OddHour", "Unusual", "bursts", "odd_hours"]

# Of what is reported, this share may be chance; of odd hours more, which are a hint and no more.
_FALSE_SHARE = 0.01
_FALSE_SHARE_OF_HOURS = 0.1
# The least time that gives a rate, in hours: a log of an hour has no habit.
_WEEK = 168
_MISTYPED = 3.0
_NEAR = 6  # hours that are of one stretch of work
_FEW_ALONE = 0.05  # of hours at which nobody else ever was active
_LEAST_ACTIVE = 15  # hours of activity from which an account's or a host's habit is worked out
_Row = tuple[int, int, Sequence[int]]  # the number of an account, an hour, and those of the same stretch


class Burst(Struct, frozen=True):
    """Wrong passwords of one account within an hour."""

    account: str
    hour: int
    found: Failures
    expected: float
    chance: float


class OddHour(Struct, frozen=True):
    """Uses at an hour outside an account's habit, the first with a `command`; `share` is that of its activity expected at such hours."""

    person: str
    hour: int
    count: int
    command: str
    place: Place
    share: float
    expected: float


class Unusual(Struct, frozen=True, kw_only=True):
    """What is unusual on a host."""

    odd_hours: list[OddHour] = field(default_factory=list)
    bursts: list[Burst] = field(default_factory=list)
    sprays: list[Spray] = field(default_factory=list)
    novelties: list[Novelty] = field(default_factory=list)


def _span(hours: Iterable[int]) -> int:
    known = list(hours)
    return max(_WEEK, max(known) - min(known) + 1) if known else _WEEK


def bursts(failed: FailedAttempts, active: ActiveHours) -> list[Burst]:
    """Return the hours in which an account met far more wrong passwords than explained by its habit."""
    failures = failed.counts()
    rows = [(account, hour, count) for account, hours in failures.items() for hour, count in hours.items()]
    if not rows:
        return []
    span = _span([hour for _, hour, _ in rows] + [hour for person in active for hour in active.of(person)])
    accounts = len(set(failures) | set(active))
    own = {account: sum(hours.values()) for account, hours in failures.items()}
    rate, shape = _habit_of_failures([count for *_, count in rows], accounts * span)
    expected = [(min(own[who] - count, 3 * span * rate + own[who] * 0.5) + rate * span) / (2 * span) for who, _, count in rows]
    observed = [(count, mean) for (*_, count), mean in zip(rows, expected, strict=True)]
    tails = {(count, mean): burst_tail(count, mean, shape) for count, mean in set(observed)}
    chances = [tails[one] for one in observed]
    keep = discoveries(chances, accounts * span, _FALSE_SHARE)
    kept = [(who, hour, mean, chance) for (who, hour, _), mean, chance, one in zip(rows, expected, chances, keep, strict=True) if one]
    found = failed.of({(who, hour) for who, hour, *_ in kept})
    return [Burst(who, hour, found[who, hour], mean, chance) for who, hour, mean, chance in kept]


def _habit_of_failures(counts: Sequence[int], hours: int) -> tuple[float, float]:
    """Return how many wrong passwords an account meets in an hour, and the shape of the scatter, without what is itself an anomaly."""
    # Where few hours have failures, no more than people mistype.
    limit = max(_MISTYPED, median(counts) if len(counts) >= _LEAST_ACTIVE else 0.0)
    typical = [min(count, limit) for count in counts]
    rate = (sum(typical) + 1) / hours
    variance = (sum(count**2 for count in typical) + 1) / hours
    return rate, rate**2 / max(variance - rate, rate * 0.1)


def odd_hours(active: ActiveHours) -> list[OddHour]:
    """Return the hours outside an account's habit in which it used privilege, or tried to."""
    people = sorted(active)
    hours_of = [active.of(person) for person in people]
    bins = {hour: bin_of(hour, active.zone) for hours in hours_of for hour in hours}
    table = [[0] * BINS for _ in people]
    for row, hours in zip(table, hours_of, strict=True):
        for hour in hours:
            row[bins[hour]] += 1
    if sum(map(sum, table)) < _LEAST_ACTIVE:
        return []
    habits = Habits(table)
    rows = [(row, hour, near) for row, hours in enumerate(hours_of) for hour, near in _stretches(hours)]
    chances = _chances(habits, rows, bins)
    kept = [
        (row, hour, chance)
        for (row, hour, _), chance, keep in zip(rows, chances, discoveries(chances, len(rows), _FALSE_SHARE_OF_HOURS), strict=True)
        if keep  # never what is usual, of which no place is kept
    ]
    first = active.first_uses({(people[row], hour) for row, hour, _ in kept})
    return [
        OddHour(people[row], hour, hours_of[row][hour], *first[people[row], hour], chance, chance * sum(table[row]))
        for row, hour, chance in kept
    ]


def _chances(habits: Habits, rows: Sequence[_Row], bins: Mapping[int, int]) -> list[float]:
    """Return how probable an hour as unusual is of each; 1.0 of those that are usual.

    Where many hours are such that nobody else ever was active at their time of the day, one more says little: there is no habit yet.
    """
    chances, odd = [1.0] * len(rows), [number for number, (row, hour, _) in enumerate(rows) if not habits.is_usual(row, bins[hour])]
    judged = [(row, bins[hour], tuple(sorted([bins[other] for other in near]))) for row, hour, near in map(rows.__getitem__, odd)]
    alone = {rows[number][:2] for number, (_, hour, near) in zip(odd, judged, strict=True) if habits.is_alone(hour, near)}
    for number, chance in zip(odd, habits.chances(judged), strict=True):
        row, hour, near = rows[number]
        others = len(alone) - sum((row, other) in alone for other in near) if (row, hour) in alone else 0
        chances[number] = max(chance, others / len(rows) - _FEW_ALONE)
    return chances


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
