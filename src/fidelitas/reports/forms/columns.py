"""A table in columns for a terminal of any width.

Columns of prose are folded at blanks.  Where that is not enough, the least important column gives way: its text follows, in brackets, that
of the last column of prose, or where there is none it stands in a second line below its row; and then the next.  No word is ever broken.
A column that is empty in all rows is left out.
"""

import textwrap
from collections.abc import Iterator, Sequence
from itertools import zip_longest

from msgspec import Struct

from fidelitas.reports.table import Table
from fidelitas.text import escape_control

__all__ = ["Line", "laid_out"]

_PLACE = "PLACE"
_GAP = 2
_INDENT = "    "
# Prose that is folded more narrowly than this is hard to read.
_PROSE = 24


class Line(Struct, frozen=True):
    """One line of output, and its style of Rich, which is for the first `upto` characters where that is set."""

    text: str = ""
    style: str = ""
    upto: int | None = None


class _Column(Struct, frozen=True):
    title: str
    cells: tuple[str, ...]
    prose: bool

    @property
    def natural(self) -> int:
        return max(len(self.title), *map(len, self.cells))

    @property
    def narrowest(self) -> int:
        if not self.prose:
            return self.natural
        words = max((len(word) for cell in self.cells for word in cell.split()), default=0)
        return min(self.natural, max(words, len(self.title), _PROSE))


def laid_out(table: Table, width: int | None) -> Iterator[Line]:
    """Yield the lines of a table that has rows; without a width, for a pipe, one line a row."""
    columns, below = _fitting(table, width)
    widths = _widths(columns, width)
    yield Line(_joined([column.title for column in columns], widths), "bold")
    for number in range(len(table.rows)):
        style = table.styles[number] if table.styles else ""
        cells = [_folded(column, number, size, width) for column, size in zip(columns, widths, strict=True)]
        for texts in zip_longest(*cells, fillvalue=""):
            yield Line(_joined(texts, widths), style, widths[0] if table.first_only else None)
        if width is not None and (rest := _rest(below, number)):
            yield from (Line(text, "" if table.first_only else style) for text in _wrapped(rest, width, _INDENT))


def _fitting(table: Table, width: int | None) -> tuple[list[_Column], list[_Column]]:
    """Return the columns that stand beside each other, and those that stand below where there is no prose to follow."""
    columns = [column for column in _columns(table) if any(cell not in ("", "-") for cell in column.cells)]
    away: list[_Column] = []
    for title in _giving_way(table):
        if width is None or _needed(columns) <= width or len(columns) == 1:
            break
        away += [column for column in columns if column.title == title]
        columns = [column for column in columns if column.title != title]
    order = [title.upper() for title in table.columns]
    away.sort(key=lambda column: order.index(column.title))
    prose = next((column for column in reversed(columns) if column.prose), None)
    if prose is None or not away:
        return columns, away
    cells = tuple(cell + (f" [{rest}]" if (rest := _rest(away, number)) else "") for number, cell in enumerate(prose.cells))
    joined = [_Column(prose.title, cells, prose=True) if column is prose else column for column in columns]
    return (columns, away) if width is not None and _needed(joined) > width else (joined, [])


def _rest(columns: Sequence[_Column], number: int) -> str:
    """Return the cells that found no room, each behind its title: a number alone says nothing, a file with its line does."""
    shown = (column for column in columns if column.cells[number] not in ("", "-"))
    return " · ".join(
        column.cells[number] if column.title == _PLACE else f"{column.title.lower()}: {column.cells[number]}" for column in shown
    )


def _columns(table: Table) -> list[_Column]:
    cells = zip(*table.rows, strict=True)
    return [
        _Column(title.upper(), tuple(map(escape_control, those)), title in table.may_fold)
        for title, those in zip(table.columns, cells, strict=True)
    ]


def _giving_way(table: Table) -> list[str]:
    """Return the columns in the order in which they give way: those that the table says, then from the last to the first."""
    rest = [title for title in reversed(table.columns[1:]) if title not in table.least]
    return [title.upper() for title in (*table.least, *rest)]


def _needed(columns: Sequence[_Column]) -> int:
    return sum(column.narrowest for column in columns) + _GAP * (len(columns) - 1)


def _widths(columns: Sequence[_Column], width: int | None) -> list[int]:
    """Return how wide each column is: what is left over goes to the columns of prose, to each as far as it can use it."""
    if width is None:
        return [column.natural for column in columns]
    widths = [column.narrowest for column in columns]
    left = width - _needed(columns)
    while left > 0 and (wanting := [at for at, column in enumerate(columns) if widths[at] < column.natural]):
        share = max(left // len(wanting), 1)
        for at in wanting:
            more = min(share, columns[at].natural - widths[at], left)
            widths[at] += more
            left -= more
    return widths


def _folded(column: _Column, number: int, size: int, width: int | None) -> list[str]:
    cell = column.cells[number]
    return [cell] if width is None or len(cell) <= size else _wrapped(cell, size)


def _wrapped(text: str, width: int, indent: str = "") -> list[str]:
    return textwrap.wrap(text, width, initial_indent=indent, subsequent_indent=indent, break_long_words=False, break_on_hyphens=False) or [
        ""
    ]


def _joined(texts: Sequence[str], widths: Sequence[int]) -> str:
    return (" " * _GAP).join(text.ljust(size) for text, size in zip(texts, widths, strict=True)).rstrip()
