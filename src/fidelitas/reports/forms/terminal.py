"""A report for a terminal, or for a pipe.

On a terminal lines are folded at blanks to its width; paths, names and citations are never broken.  In a pipe rows and lines stay whole.
What was said first is said again at the end where it has scrolled away.
"""

import textwrap
from collections.abc import Iterable, Iterator, Sequence

from fidelitas.reports.blocks import Block
from fidelitas.reports.forms.columns import Line, laid_out
from fidelitas.reports.forms.screen import Screen
from fidelitas.reports.report import Part, Report
from fidelitas.reports.table import Table
from fidelitas.text import escape_control

__all__ = ["render"]

# Narrower than this, folding makes more mess than it avoids.
_NARROWEST = 40


def render(report: Report, screen: Screen) -> str:
    """Return a report: the answer, its parts, the answer again where it has scrolled away, and what to type next."""
    answer = [Line(text, "bold") for part in report.answer() for text in _folded(part, "", "  ", screen.width)]
    lines = [*answer, *([Line()] if answer else []), *_parts(report.parts(), screen)]
    after = [line for onward in report.onward() for line in _next(onward, screen)]
    if answer and screen.height is not None and len(lines) + len(after) > screen.height:
        after = [*answer, *after]
    if lines and after and lines[-1].text:
        lines.append(Line())
    return _text([*lines, *after], screen)


def _next(onward: str, screen: Screen) -> list[Line]:
    return [Line(text) for text in _folded(onward, "Next: ", "      ", screen.width)]


def _parts(parts: Iterable[Part], screen: Screen) -> Iterator[Line]:
    after_block = False
    for part in parts:
        if isinstance(part, Block):
            yield from _block(part, screen.width, first=not after_block)
        elif isinstance(part, Table):
            yield from laid_out(part, screen.width) if part.rows else (Line(text) for text in _folded(part.empty, "", "", screen.width))
        else:
            yield from (Line(escape_control(text)) for text in part.removesuffix("\n").split("\n") if part)
        after_block = isinstance(part, Block)


def _block(block: Block, width: int | None, *, first: bool) -> Iterator[Line]:
    if not first:
        yield Line()
    yield from (Line(text, block.style) for text in _folded(block.headline, "", "  ", width))
    for row in block.rows:
        start = " " * row.indent + (f"{row.label} " if row.label else "")
        yield from (Line(text, row.style) for text in _folded(row.text, start, " " * len(start), width))


def _folded(text: str, first: str, rest: str, width: int | None) -> list[str]:
    shown = escape_control(text)
    if width is None:
        return [first + shown]
    lines = textwrap.wrap(
        shown,
        width=max(width, _NARROWEST),
        initial_indent=first,
        subsequent_indent=rest,
        break_long_words=False,
        break_on_hyphens=False,
        drop_whitespace=True,
    )
    return lines or [first.rstrip()]


def _text(lines: Sequence[Line], screen: Screen) -> str:
    if not screen.colour:
        return "".join(f"{line.text}\n" for line in lines)
    from rich.console import Console  # noqa: PLC0415  # a tenth of a second that --help need not pay
    from rich.text import Text  # noqa: PLC0415

    console = Console(force_terminal=True, color_system="standard", highlight=False, markup=False, emoji=False, legacy_windows=False)
    with console.capture() as shown:
        for line in lines:
            text = Text(line.text)
            text.stylize(line.style, 0, line.upto)
            console.print(text, soft_wrap=True, end="\n")
    return shown.get()
