"""Pictures of the report, as numbers for its templates: who has control of what, how bad, how much was read, how it went over time."""

from collections.abc import Mapping, Sequence
from typing import TypeVar

from msgspec import Struct

__all__ = ["Bar", "Cell", "Matrix", "Trend", "TrendPoint", "bars_of", "matrix_of"]

_MOST_ROWS, _MOST_COLUMNS = 40, 30
_WIDTH = 220


class Bar(Struct, frozen=True):
    """A bar: what it counts, how many, and how long it is drawn, of 220."""

    name: str
    count: int
    length: int


class Cell(Struct, frozen=True):
    """A square of the matrix, by row and column, and what it stands for: "full", "obtainable", or "limited"."""

    row: int
    column: int
    kind: str


class Matrix(Struct, frozen=True):
    """Holders by subjects, those that are alike beside each other; `hidden` says how many of each are not drawn."""

    rows: tuple[str, ...] = ()
    columns: tuple[str, ...] = ()
    cells: tuple[Cell, ...] = ()
    hidden: tuple[int, int] = (0, 0)


class TrendPoint(Struct, frozen=True):
    """One survey: its day, how many have full control, and how many findings are critical or high."""

    day: str
    holders: int
    findings: int


class Trend(Struct, frozen=True):
    """Surveys over time, the oldest first."""

    points: tuple[TrendPoint, ...] = ()

    @property
    def highest(self) -> int:
        """The largest number, at least one."""
        return max([1, *(max(point.holders, point.findings) for point in self.points)])

    def line(self, name: str, width: int, height: int) -> str:
        """Return the points of a line of an SVG polyline within a box."""
        step = width / max(1, len(self.points) - 1)
        values = [getattr(point, name) for point in self.points]
        return " ".join(f"{number * step:.1f},{height - height * value / self.highest:.1f}" for number, value in enumerate(values))


def bars_of(counts: Mapping[str, int], names: Sequence[str]) -> tuple[Bar, ...]:
    """Return a bar for each name, the longest as long as there is room."""
    longest = max([1, *(counts.get(name, 0) for name in names)])
    return tuple(Bar(name, counts.get(name, 0), round(_WIDTH * counts.get(name, 0) / longest)) for name in names)


# What a square stands for, by how far a right reaches.
_KINDS = ("full", "obtainable", "limited")
_WEIGHTS = (10_000, 100, 1)


def matrix_of(reach: Mapping[str, Mapping[int, int]], systems: Sequence[Sequence[str]]) -> Matrix:
    """Return the matrix: how far what each holder has reaches (0 full control, 1 to be obtained, 2 less), by number of equal systems."""
    columns: dict[int, dict[str, int]] = {}
    for holder, found in reach.items():
        for number, far in found.items():
            columns.setdefault(number, {})[holder] = far
    rows = _ordered(
        {holder: {systems[at][0]: far for at, far in found.items()} for holder, found in reach.items()},
        {one[0]: len(one) for one in systems},
    )
    shown = [(number, name) for number in _ordered(columns, {}) for name in systems[number]]
    at_row = {name: number for number, name in enumerate(rows[:_MOST_ROWS])}
    cells = tuple(
        Cell(at_row[holder], column, _KINDS[far])
        for column, (number, _) in enumerate(shown[:_MOST_COLUMNS])
        for holder, far in sorted(columns[number].items())
        if holder in at_row
    )
    names = tuple(name for _, name in shown[:_MOST_COLUMNS])
    return Matrix(tuple(at_row), names, cells, (len(rows) - len(at_row), len(shown) - len(names)))


_N = TypeVar("_N", str, int)


def _ordered(profiles: Mapping[_N, Mapping[str, int]], sizes: Mapping[str, int]) -> list[_N]:
    """Return holders, or systems, with most control first, those with the same on the same beside each other."""
    weight = {one: sum(_WEIGHTS[far] * sizes.get(other, 1) for other, far in profile.items()) for one, profile in profiles.items()}
    return sorted(profiles, key=lambda one: (-weight[one], sorted(profiles[one].items()), one))
