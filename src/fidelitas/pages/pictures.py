"""Pictures of the report, as numbers for its templates: who has control of what, how bad, how much was read, how it went over time."""

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence

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


def matrix_of(held: Iterable[tuple[str, str, bool, bool]]) -> Matrix:
    """Return the matrix of holdings, each as holder, subject, whether it is granted and whether it is full control."""
    strongest: dict[tuple[str, str], str] = {}
    for holder, subject, granted, full in held:
        kind = "limited" if not full else "full" if granted else "obtainable"
        if _RANK[kind] < _RANK.get(strongest.get((holder, subject), ""), 9):
            strongest[holder, subject] = kind
    rows = _ordered(strongest, 0)
    columns = _ordered(strongest, 1)
    shown_rows, shown_columns = rows[:_MOST_ROWS], columns[:_MOST_COLUMNS]
    at_row, at_column = ({name: number for number, name in enumerate(names)} for names in (shown_rows, shown_columns))
    cells = tuple(
        Cell(at_row[holder], at_column[subject], kind)
        for (holder, subject), kind in sorted(strongest.items())
        if holder in at_row and subject in at_column
    )
    return Matrix(tuple(shown_rows), tuple(shown_columns), cells, (len(rows) - len(shown_rows), len(columns) - len(shown_columns)))


_RANK = {"full": 0, "obtainable": 1, "limited": 2}


def _ordered(strongest: Mapping[tuple[str, str], str], side: int) -> list[str]:
    """Return holders, or subjects, with most control first, those with the same on the same beside each other."""
    profile: dict[str, list[tuple[str, str]]] = {}
    weight: Counter[str] = Counter()
    for pair, kind in strongest.items():
        profile.setdefault(pair[side], []).append((pair[1 - side], kind))
        weight[pair[side]] += 10_000 if kind == "full" else 100 if kind == "obtainable" else 1
    return sorted(profile, key=lambda name: (-weight[name], sorted(profile[name]), name))
