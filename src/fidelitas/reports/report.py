"""A report: one answer of a command, of which every form is made.

A report knows its parts for a reader, its rows for a spreadsheet and its document for programs; which of them a form takes, and how it
writes them, is the business of `fidelitas.reports.forms`.  All are made only when a form asks for them.
"""

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any

from msgspec import Struct

from fidelitas.reports.blocks import Block
from fidelitas.reports.drawing import DrawnRoute
from fidelitas.reports.issue import Issue
from fidelitas.reports.table import Table

__all__ = ["Listed", "Part", "Report", "report_of"]

# Text as it is, such as a line that counts; a table; a block.
Part = str | Table | Block


def _nothing() -> Sequence[str]:
    return ()


class Listed:
    """A list at the top of a document of which there is much: each thing is made when it is written, and no two need be there at once."""

    __slots__ = ("_make",)

    def __init__(self, make: Callable[[], Iterator[Any]]) -> None:
        self._make = make

    def __iter__(self) -> Iterator[Any]:
        return self._make()

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Listed) and list(self) == list(other)

    __hash__ = None  # type: ignore[assignment]  # as of a list


class Report(Struct, frozen=True, kw_only=True):
    """An answer in the ways in which it can be told.

    `answer` is the answer in one to five lines, `onward` what to type next.  `parts` are the details for a reader.  `rows` are for a
    program that reads tables: nothing in them is left out or put together; where there are none of their own, the parts are taken.
    `document` is the JSON document.  `issues`, where it is about things that are wrong, are for build servers and code hosts; `routes` are
    to be drawn.
    """

    parts: Callable[[], Sequence[Part]]
    document: Callable[[], Any]
    answer: Callable[[], Sequence[str]] = _nothing
    onward: Callable[[], Sequence[str]] = _nothing
    rows: Callable[[], Sequence[Part]] | None = None
    issues: Callable[[], Iterable[Issue]] | None = None
    routes: Callable[[], Iterable[DrawnRoute]] | None = None


def report_of(table: Table, document: Callable[[], Any]) -> Report:
    """Return the report that is one table."""
    return Report(parts=lambda: (table,), document=document)
