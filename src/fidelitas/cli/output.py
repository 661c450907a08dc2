"""Where output meets the terminal."""

import json
import os
import shutil
import sys
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any, TypeVar

import click

from fidelitas.reports import FORMATS, Table, render
from fidelitas.reports.blocks import Block, render_blocks
from fidelitas.text import escape_control

__all__ = ["Output", "format_option", "say"]

F = TypeVar("F", bound=Callable[..., Any])


@dataclass(frozen=True, slots=True)
class Output:
    """How and where a command prints."""

    form: str = "table"

    @property
    def width(self) -> int | None:
        """The terminal's width, or nothing where output goes to a file or a pipe."""
        return shutil.get_terminal_size().columns if sys.stdout.isatty() else None

    @property
    def colour(self) -> bool:
        """Whether to colour: on a terminal, unless NO_COLOR is set."""
        return sys.stdout.isatty() and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"

    def table(self, table: Table, document: Callable[[], Any]) -> None:
        """Print a table in the form that was asked for, or the document as JSON."""
        if self.form == "json":
            self.json(document())
        else:
            self.text(render(table, self.form, width=self.width, colour=self.colour))

    def json(self, document: Any) -> None:
        """Print a JSON document: ASCII only, so that no terminal obeys what is in it."""
        self.text(json.dumps(document, indent=2) + "\n")

    def blocks(self, blocks: Sequence[Block]) -> None:
        """Print blocks."""
        self.text(render_blocks(blocks, width=self.width, colour=self.colour))

    def text(self, text: str) -> None:
        """Print text as it is; characters that the output's encoding lacks are escaped."""
        encoding = sys.stdout.encoding or "ascii"
        click.echo(text.encode(encoding, "backslashreplace").decode(encoding), nl=False)


def say(message: str) -> None:
    """Print a message on standard error."""
    click.echo(f"fidelitas: {escape_control(message)}", err=True)


def format_option(function: F | None = None, *, jsonl: bool = False) -> Any:
    """Add --format; it arrives as an `output`.  With `jsonl` there is a form of one JSON object a line, too."""
    if function is None:
        return partial(format_option, jsonl=jsonl)

    def wrapped(*args: Any, form: str, **kwargs: Any) -> Any:
        return function(*args, output=Output(form), **kwargs)

    wrapped.__name__, wrapped.__doc__ = function.__name__, function.__doc__
    wrapped.__dict__.update(function.__dict__)
    forms = [*FORMATS, "jsonl"] if jsonl else FORMATS
    option = click.option("--format", "form", type=click.Choice(forms), default="table", show_default=True, help="Form of the output.")
    return option(wrapped)
