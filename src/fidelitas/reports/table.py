"""A table, and its forms: for a terminal, plain, CSV and Markdown.

All text of a table may come from hostile evidence; each form makes it safe for where it goes.
"""

import csv
import io
from dataclasses import dataclass
from typing import TYPE_CHECKING

from fidelitas.text import escape_control

if TYPE_CHECKING:
    from rich.console import RenderableType

__all__ = ["FORMATS", "Table", "render", "render_markdown", "to_terminal"]

FORMATS = ("table", "json", "csv", "markdown")

# Spreadsheets take a cell that begins so for a formula.  A quote in front makes it text again.
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


@dataclass(frozen=True, slots=True, kw_only=True)
class Table:
    """A table: column titles and rows of text.  Columns in `may_fold` give way first where the terminal is narrow."""

    columns: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    may_fold: frozenset[str] = frozenset()
    styles: tuple[str, ...] = ()  # one a row, or none at all
    empty: str = "nothing"


def render(table: Table, form: str, *, width: int | None, colour: bool = False) -> str:
    """Return a table as text in one of the forms table, csv and markdown; `width` is the terminal's, ``None`` for a pipe."""
    if form == "csv":
        return _csv(table)
    if form == "markdown":
        return render_markdown(table)
    return _terminal(table, width, colour=colour)


def _csv(table: Table) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(column.lower().replace(" ", "_") for column in table.columns)
    writer.writerows([_cell(text) for text in row] for row in table.rows)
    return out.getvalue()


def _cell(text: str) -> str:
    shown = escape_control(text)
    return f"'{shown}" if shown.startswith(_FORMULA) else shown


def render_markdown(table: Table) -> str:
    """Return a table in Markdown."""
    lines = [table.columns, tuple("---" for _ in table.columns), *table.rows]
    return "".join("| " + " | ".join(_markdown(text) for text in line) + " |\n" for line in lines)


def _markdown(text: str) -> str:
    shown = escape_control(text)
    for character in ("\\", "|", "`", "*", "_", "<", "[", "#"):
        shown = shown.replace(character, f"\\{character}" if character != "<" else "&lt;")
    return shown


def _terminal(table: Table, width: int | None, *, colour: bool) -> str:
    if not table.rows:
        return f"{table.empty}\n"
    if width is None:
        return _columns(table)
    from rich.table import Table as RichTable  # noqa: PLC0415  # a tenth of a second that --help need not pay
    from rich.text import Text  # noqa: PLC0415

    shown = RichTable(box=None, pad_edge=False, padding=(0, 2, 0, 0), collapse_padding=True, header_style="bold", expand=False)
    for column in table.columns:
        shown.add_column(column.upper(), overflow="fold", no_wrap=column not in table.may_fold)
    for index, row in enumerate(table.rows):
        style = table.styles[index] if table.styles else ""
        shown.add_row(*(Text(escape_control(text)) for text in row), style=style)
    return to_terminal(shown, width, colour=colour)


def _columns(table: Table) -> str:
    """Return aligned columns of whole cells, for a pipe: nothing is cut or folded."""
    rows = [tuple(column.upper() for column in table.columns), *(tuple(escape_control(text) for text in row) for row in table.rows)]
    widths = [max(len(row[index]) for row in rows) for index in range(len(table.columns))]
    return "".join("  ".join(text.ljust(widths[index]) for index, text in enumerate(row)).rstrip() + "\n" for row in rows)


def to_terminal(shown: "RenderableType", width: int, *, colour: bool) -> str:
    """Return what Rich makes of something, as text with or without colours, without trailing blanks."""
    from rich.console import Console  # noqa: PLC0415

    out = io.StringIO()
    console = Console(
        file=out,
        width=width,
        force_terminal=colour,
        color_system="standard" if colour else None,
        no_color=not colour,
        highlight=False,
        markup=False,
        emoji=False,
        legacy_windows=False,
    )
    console.print(shown, soft_wrap=False)
    return "\n".join(line.rstrip() for line in out.getvalue().split("\n"))
