"""Blocks: a headline with indented lines under it, for what does not fit a row.

The lines are folded at the terminal's width and never cut; in a pipe they stay whole.
"""

import textwrap
from collections.abc import Sequence
from dataclasses import dataclass

from fidelitas.reports.table import to_terminal
from fidelitas.text import escape_control

__all__ = ["Block", "Row", "render_blocks"]

# Narrower than this, folding makes more mess than it avoids.
_NARROWEST = 40


@dataclass(frozen=True, slots=True)
class Row:
    """One line of a block: a label, text, and how far it is indented; `style` is a style of Rich for the whole line."""

    text: str
    label: str = ""
    indent: int = 2
    style: str = ""


@dataclass(frozen=True, slots=True)
class Block:
    """A headline and the rows under it."""

    headline: str
    rows: tuple[Row, ...]
    style: str = "bold"


def render_blocks(blocks: Sequence[Block], *, width: int | None, colour: bool) -> str:
    """Return blocks as text, an empty line between them."""
    lines: list[tuple[str, str]] = []
    for block in blocks:
        if lines:
            lines.append(("", ""))
        lines += [(text, block.style) for text in _folded(block.headline, "", "  ", width)]
        for row in block.rows:
            start = " " * row.indent + (f"{row.label} " if row.label else "")
            lines += [(text, row.style) for text in _folded(row.text, start, " " * len(start), width)]
    if not colour:
        return "".join(f"{text}\n" for text, _ in lines)
    from rich.text import Text  # noqa: PLC0415

    shown = Text("\n").join(Text(text, style=style) for text, style in lines)
    return to_terminal(shown, max((len(text) for text, _ in lines), default=0) + 1, colour=True)


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
