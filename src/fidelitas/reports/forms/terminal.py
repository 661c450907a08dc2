"""A report for a terminal, or for a pipe.

On a terminal lines are folded at its width and never cut; in a pipe rows and lines stay whole.
"""

import io
import textwrap
from collections.abc import Iterator, Sequence
from itertools import groupby
from typing import TYPE_CHECKING, cast

from fidelitas.reports.blocks import Block
from fidelitas.reports.forms.screen import Screen
from fidelitas.reports.report import Report
from fidelitas.reports.table import Table
from fidelitas.text import escape_control

if TYPE_CHECKING:
    from rich.console import RenderableType

__all__ = ["render"]

# Narrower than this, folding makes more mess than it avoids.
_NARROWEST = 40


def render(report: Report, screen: Screen) -> str:
    """Return the parts of a report, an empty line between one kind of part and the next."""
    return "".join(_shown(report, screen))


def _shown(report: Report, screen: Screen) -> Iterator[str]:
    for kind, parts in groupby(report.parts(), type):
        if kind is Block:
            yield _blocks(cast("list[Block]", list(parts)), screen)
        else:
            yield from (_table(part, screen) if isinstance(part, Table) else str(part) for part in parts)


def _table(table: Table, screen: Screen) -> str:
    if not table.rows:
        return f"{table.empty}\n"
    if screen.width is None:
        return _columns(table)
    from rich.table import Table as RichTable  # noqa: PLC0415  # a tenth of a second that --help need not pay
    from rich.text import Text  # noqa: PLC0415

    shown = RichTable(box=None, pad_edge=False, padding=(0, 2, 0, 0), collapse_padding=True, header_style="bold", expand=False)
    for column in table.columns:
        shown.add_column(column.upper(), overflow="fold", no_wrap=column not in table.may_fold)
    for index, row in enumerate(table.rows):
        style = table.styles[index] if table.styles else ""
        shown.add_row(*(Text(escape_control(text)) for text in row), style=style)
    return _to_terminal(shown, screen.width, colour=screen.colour)


def _columns(table: Table) -> str:
    """Return aligned columns of whole cells, for a pipe: nothing is cut or folded."""
    rows = [tuple(column.upper() for column in table.columns), *(tuple(escape_control(text) for text in row) for row in table.rows)]
    widths = [max(len(row[index]) for row in rows) for index in range(len(table.columns))]
    return "".join("  ".join(text.ljust(widths[index]) for index, text in enumerate(row)).rstrip() + "\n" for row in rows)


def _blocks(blocks: Sequence[Block], screen: Screen) -> str:
    """Return blocks as text, an empty line between them."""
    lines: list[tuple[str, str]] = []
    for block in blocks:
        if lines:
            lines.append(("", ""))
        lines += [(text, block.style) for text in _folded(block.headline, "", "  ", screen.width)]
        for row in block.rows:
            start = " " * row.indent + (f"{row.label} " if row.label else "")
            lines += [(text, row.style) for text in _folded(row.text, start, " " * len(start), screen.width)]
    if not screen.colour:
        return "".join(f"{text}\n" for text, _ in lines)
    from rich.text import Text  # noqa: PLC0415

    shown = Text("\n").join(Text(text, style=style) for text, style in lines)
    return _to_terminal(shown, max((len(text) for text, _ in lines), default=0) + 1, colour=True)


def _folded(text: str, first: str, rest: str, width: int | None) -> list[str]:
    shown = escape_control(text)
    if width is None:
        return [first + shown]
    lines = textwrap.wrap(
        shown,
        width=max(width, _NARROWEST),
        initial_indent=first,
        subsequent_indent=rest,
        break_long_words=True,
        break_on_hyphens=False,
        drop_whitespace=True,
    )
    return lines or [first.rstrip()]


def _to_terminal(shown: "RenderableType", width: int, *, colour: bool) -> str:
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
