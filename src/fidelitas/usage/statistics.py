"""Numbers for what is out of order: habits by hour, rates, tails, and how many of many tests may be false.

All take and return NumPy arrays; nothing here knows of logs.
"""

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

__all__ = ["BINS", "burst_tail", "concentration", "discoveries", "habit", "novelty_tail", "rarity", "silence_tail", "smoothed"]

Numbers = NDArray[np.float64]

# Hours of a working day, and of a day of the week-end.
BINS = 48
# Hours on the clock that count as near each other: people are an hour early or late.
_BANDWIDTH = 1.0
# How much of a habit of working days is one of week-ends too.
_ACROSS = 0.02
_STRENGTHS = np.array([1, 2, 4, 8, 16, 32, 64, 128, 256], dtype=np.float64)


def _kernel() -> Numbers:
    hours = np.arange(24)
    apart = np.abs(hours[:, None] - hours[None, :])
    near = np.exp(-(np.minimum(apart, 24 - apart) ** 2) / (2 * _BANDWIDTH**2))
    near /= near.sum(axis=1, keepdims=True)
    return np.block([[near * (1 - _ACROSS), near * _ACROSS], [near * _ACROSS, near * (1 - _ACROSS)]])


_NEAR = _kernel()


def smoothed(counts: Numbers) -> Numbers:
    """Return counts by hour (..., 48) spread over the hours near them; sums stay as they are."""
    return np.asarray(counts @ _NEAR, dtype=np.float64)


def concentration(counts: Numbers) -> float:
    """Return how many observations of the group's habit (accounts, 48) the habit of one account is worth at first.

    The likeliest of some strengths, counts of each account being drawn from a Dirichlet-multinomial distribution about the group's.
    """
    group = smoothed(counts.sum(axis=0) + 1 / BINS)
    prior = _STRENGTHS[:, None] * (group / group.sum())[None, :]
    totals = counts.sum(axis=1)
    likelihood = [
        float(
            np.sum(special.gammaln(weight.sum()) - special.gammaln(totals + weight.sum()))
            + np.sum(special.gammaln(counts + weight) - special.gammaln(weight))
        )
        for weight in prior
    ]
    return float(_STRENGTHS[int(np.argmax(likelihood))])


def habit(own: Numbers, group: Numbers, strength: float) -> Numbers:
    """Return the share of each hour (48) in what an account does, its own counts shrunk towards the group's by `strength`."""
    base = smoothed(group + 1e-9)
    return np.asarray((smoothed(own) + strength * base / base.sum()) / (own.sum() + strength), dtype=np.float64)


def rarity(shares: Numbers, hour: int) -> float:
    """Return how probable it is to be met at an hour as unusual as this one, by a habit."""
    return float(shares[shares <= shares[hour] * (1 + 1e-9)].sum())


def burst_tail(observed: Numbers, expected: Numbers, shape: float) -> Numbers:
    """Return how probable so many or more are where so many are expected: negative binomial, its variance m + m²/shape."""
    return np.asarray(special.betainc(np.maximum(observed, 1), shape, expected / (shape + expected)), dtype=np.float64)


def silence_tail(expected: Numbers, shape: float) -> float:
    """Return how probable it is that nothing at all comes in hours in which so many (hours) are expected."""
    return float(np.exp(np.sum(shape * np.log(shape / (shape + expected)))))


def novelty_tail(uses: int, once: int, known: int) -> float:
    """Return how probable it is that the next of `uses` is none of the `known`, `once` of them met a single time (Good, Turing)."""
    return (once + 0.5) / (uses + 1) if known else 1.0


def discoveries(chances: Any, tests: int, rate: float) -> NDArray[np.bool_]:
    """Return which of some probabilities, the smallest of so many tests, are kept where a share of `rate` may be false.

    The procedure of Benjamini and Hochberg: the tests that are not listed have a probability of 1.
    """
    values = np.asarray(chances, dtype=np.float64)
    if not len(values):
        return np.zeros(0, dtype=np.bool_)
    order = np.argsort(values)
    limits = rate * np.arange(1, len(values) + 1) / max(tests, len(values))
    below = np.flatnonzero(values[order] <= limits)
    kept = np.zeros(len(values), dtype=np.bool_)
    if len(below):
        kept[order[: below[-1] + 1]] = True
    return kept
