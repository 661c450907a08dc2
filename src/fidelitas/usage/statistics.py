"""Numbers for anomalies: habits by hour, rates, tails, and how many of many tests may be false.

All take and return lists of numbers; nothing here knows of logs.  The two special functions are the standard library's logarithm of gamma
and, here, the regularised incomplete beta function; the tests compare both with SciPy.
"""

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from itertools import groupby
from typing import Any

__all__ = [
    "BINS",
    "burst_tail",
    "concentration",
    "discoveries",
    "incomplete_beta",
    "novelty_tail",
    "silence_tail",
    "smoothed",
    "smoothed_rows",
]

Numbers = Sequence[float]

# Hours of a working day, and of a day of the week-end.
BINS = 48
# Hours on the clock that count as near each other: people are an hour early or late.
_BANDWIDTH = 1.0
# How much of a habit of working days is one of week-ends too.
_ACROSS = 0.02
_STRENGTHS = (1, 2, 4, 8, 16, 32, 64, 128, 256)
_LEAST = 1e-300  # in place of zero in a continued fraction
_MOST_STEPS = 10_000
_PRECISION = 1e-15


def _kernel() -> list[list[float]]:
    """Return what share of a count in one bin is spread to each other bin."""
    near = [math.exp(-(min(apart, 24 - apart) ** 2) / (2 * _BANDWIDTH**2)) for apart in range(24)]
    share = [one / sum(near) for one in near]
    return [
        [share[abs(one % 24 - other % 24)] * (1 - _ACROSS if one // 24 == other // 24 else _ACROSS) for other in range(BINS)]
        for one in range(BINS)
    ]


_NEAR = _kernel()


def smoothed(counts: Numbers) -> list[float]:
    """Return counts by hour (48) spread over the hours near them; the sum stays as it is."""
    result = [0.0] * BINS
    for at, count in enumerate(counts):
        if count:
            result = [sum_ + count * share for sum_, share in zip(result, _NEAR[at], strict=True)]
    return result


def smoothed_rows(numpy: Any, counts: Sequence[Numbers]) -> Any:
    """Return the same of many rows of counts (rows, 48), as an array of NumPy: added in the same order, so to the same numbers."""
    rows, near = numpy.array(counts, dtype=float), numpy.array(_NEAR)
    result = numpy.zeros(rows.shape)
    for at in range(BINS):
        result += rows[:, at : at + 1] * near[at]
    return result


def concentration(counts: Sequence[Numbers]) -> float:
    """Return how many observations of the group's habit (accounts, 48) the habit of one account is worth at first.

    The likeliest of some strengths, counts of each account being drawn from a Dirichlet-multinomial distribution about the group's.
    """
    columns = list(zip(*counts, strict=True))
    group = smoothed([sum(column) + 1 / BINS for column in columns])
    whole = sum(group)
    rows = Counter(map(sum, counts))
    cells = [(at, count, times) for at, column in enumerate(columns) for count, times in Counter(column).items() if count]
    return float(max(_STRENGTHS, key=lambda strength: _likelihood(rows, cells, [strength * one / whole for one in group])))


def _likelihood(rows: Mapping[float, int], cells: Sequence[tuple[int, float, int]], weight: Numbers) -> float:
    """Return the logarithm of how probable counts by hour are under a Dirichlet-multinomial distribution, but for a constant.

    `rows` says how many accounts have so many in all, `cells` how many have so many in one hour: most counts are few, and the same.
    """
    total, lgamma = sum(weight), math.lgamma
    of_rows = sum(times * (lgamma(total) - lgamma(count + total)) for count, times in rows.items())
    return of_rows + sum(times * (lgamma(count + weight[at]) - lgamma(weight[at])) for at, count, times in cells)


def burst_tail(observed: float, expected: float, shape: float) -> float:
    """Return how probable so many or more are where so many are expected: negative binomial, its variance m + m²/shape."""
    return incomplete_beta(max(observed, 1), shape, expected / (shape + expected))


def incomplete_beta(a: float, b: float, x: float) -> float:
    """Return the regularised incomplete beta function I_x(a, b) for a, b > 0 and x from 0 to 1.

    By its continued fraction (NIST Digital Library of Mathematical Functions, 8.17.22), evaluated forwards as Lentz does.
    """
    if x <= 0 or x >= 1:
        return 0.0 if x <= 0 else 1.0
    if x > (a + 1) / (a + b + 2):  # the fraction converges fast below this point only
        return 1 - incomplete_beta(b, a, 1 - x)
    front = math.exp(math.lgamma(a + b) - math.lgamma(a) - math.lgamma(b) + a * math.log(x) + b * math.log1p(-x)) / a
    numerator, denominator, result = 1.0, 0.0, 1.0
    for step in range(_MOST_STEPS):
        term = _beta_term(a, b, x, step)
        denominator = 1 / (1 + term * denominator or _LEAST)
        numerator = 1 + term / numerator or _LEAST
        result *= numerator * denominator
        if step and abs(numerator * denominator - 1) < _PRECISION:
            break
    return front * (result - 1)


def _beta_term(a: float, b: float, x: float, step: int) -> float:
    """Return a numerator of the continued fraction; the first is one."""
    if not step:
        return 1.0
    half = step // 2
    if step % 2 == 0:
        return half * (b - half) * x / ((a + 2 * half - 1) * (a + 2 * half))
    return -(a + half) * (a + b + half) * x / ((a + 2 * half) * (a + 2 * half + 1))


def silence_tail(expected: Numbers, shape: float) -> float:
    """Return how probable it is that nothing at all comes in hours in which so many (hours) are expected."""
    return math.exp(sum(shape * math.log(shape / (shape + mean)) * len(list(same)) for mean, same in groupby(expected)))


def novelty_tail(uses: int, once: int, known: int) -> float:
    """Return how probable it is that the next of `uses` is not one of the `known`, `once` of them met a single time (Good, Turing)."""
    return (once + 0.5) / (uses + 1) if known else 1.0


def discoveries(chances: Numbers, tests: int, rate: float) -> list[bool]:
    """Return which of some probabilities, the smallest of so many tests, are kept where a share of `rate` may be false.

    The procedure of Benjamini and Hochberg: the tests that are not listed have a probability of 1.
    """
    count = max(tests, len(chances))
    order = sorted(range(len(chances)), key=chances.__getitem__)
    last = max((rank for rank, at in enumerate(order, 1) if chances[at] <= rate * rank / count), default=0)
    kept = set(order[:last])
    return [at in kept for at in range(len(chances))]
