"""Where output meets the terminal."""

import json
import os
import shutil
import sys
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any, TypeVar

import click

from fidelitas.reports import Report
from fidelitas.reports.forms import FORMS, Screen, render
from fidelitas.text import escape_control

__all__ = ["Output", "format_option", "say"]

F = TypeVar("F", bound=Callable[..., Any])
T = TypeVar("T")

# The form of one JSON object a line, printed while the evidence is read.
_AT_ONCE = "jsonl"


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

    def report(self, report: Report) -> None:
        """Print a report in the form that was asked for; in that of one object a line, what was printed at once was all."""
        if self.form in FORMS:
            self.text(render(report, self.form, Screen(self.width, self.colour)))

    def at_once(self, document: Callable[[T], Any]) -> Callable[[T], None] | None:
        """Return what prints one thing as a line of JSON, where that is the form: nothing need then be kept.  In other forms, nothing."""
        return (lambda one: self.text(json.dumps(document(one)) + "\n")) if self.form == _AT_ONCE else None

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
    forms = [*FORMS, _AT_ONCE] if jsonl else list(FORMS)
    option = click.option("--format", "form", type=click.Choice(forms), default="table", show_default=True, help="Form of the output.")
    return option(wrapped)
