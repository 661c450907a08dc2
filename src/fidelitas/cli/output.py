"""Where output meets the terminal."""

import os
import shutil
import sys
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import partial
from typing import Any, TypeVar

import click
from msgspec import Struct

from fidelitas.reports import Report
from fidelitas.reports.forms import FORMS, OF_ISSUES, OF_ROUTES, Screen, render
from fidelitas.reports.making import Making, made_by
from fidelitas.rights import SubjectRights
from fidelitas.text import escape_control

__all__ = ["Output", "format_option", "say"]

F = TypeVar("F", bound=Callable[..., Any])
T = TypeVar("T")

# The forms of one JSON object a line, which some commands print while the evidence is read.
_AT_ONCE = frozenset({"jsonl", "ocsf"})
_COLOURS = ("auto", "always", "never")


class Output(Struct, frozen=True):
    """How and where a command prints."""

    form: str = "table"
    colours: str = "auto"
    paged: bool = True
    source: Any = None  # where the command answers from, where it has one
    streams: bool = False  # whether the command prints an object a line while it reads, in such forms

    @property
    def screen(self) -> Screen:
        """The terminal, or a pipe or file without width."""
        size = shutil.get_terminal_size() if sys.stdout.isatty() else None
        colour = self.colours == "always" or (self.colours == "auto" and size is not None and _wants_colour())
        return Screen(size and size.columns, size and size.lines, colour=colour)

    def report(self, report: Report, of: Sequence[SubjectRights] = ()) -> None:
        """Print a report of some subjects in the form that was asked for; in that of one object a line, what was printed was all."""
        if not (self.streams and self.form in _AT_ONCE):
            ledger, survey = (None, None) if self.source is None else (self.source.answered_from, self.source.survey)
            report = made_by(report, Making(ledger, survey, sum(one.gap_count for one in of) if of else None))
            screen = self.screen
            self._page(render(report, self.form, screen), screen)

    def at_once(self, lines: Mapping[str, Callable[[T], str]]) -> Callable[[T], None] | None:
        """Return what prints one thing as a line, where the form is one of `lines`: nothing need then be kept.  In other forms, nothing."""
        of = lines.get(self.form)
        return None if of is None else lambda one: self.text(of(one))

    def _page(self, pieces: Iterable[str], screen: Screen) -> None:
        """Print pieces of text, through the user's pager where they are longer than the terminal."""
        if not self.paged or screen.height is None:
            for piece in pieces:
                click.echo(_encodable(piece), nl=False, color=screen.colour)
            return
        text = "".join(pieces)
        if text.count("\n") >= screen.height:
            # It quits by itself where all fits, keeps colours, and starts no shell: this program is often run as root.
            os.environ.setdefault("LESS", "FRX")
            os.environ.setdefault("LESSSECURE", "1")
            click.echo_via_pager(_encodable(text), color=screen.colour)
        else:
            click.echo(_encodable(text), nl=False, color=screen.colour)

    def text(self, text: str) -> None:
        """Print text as it is; characters that the output's encoding lacks are escaped."""
        click.echo(_encodable(text), nl=False)


def _encodable(text: str) -> str:
    encoding = sys.stdout.encoding or "ascii"
    return text.encode(encoding, "backslashreplace").decode(encoding)


def _wants_colour() -> bool:
    """Return whether a terminal is to have colours (https://no-color.org)."""
    return not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"


def say(message: str) -> None:
    """Print a message on standard error."""
    click.echo(f"fidelitas: {escape_control(message)}", err=True)


def format_option(function: F | None = None, *, jsonl: bool = False, issues: bool = False, routes: bool = False) -> Any:
    """Add --format; it arrives as an `output`.

    With `jsonl` the command prints the forms of an object a line itself, while it reads; with `issues` there are those for build servers
    and code hosts, too, with `routes` pictures.
    """
    if function is None:
        return partial(format_option, jsonl=jsonl, issues=issues, routes=routes)

    def wrapped(*args: Any, form: str, colours: str, paged: bool, **kwargs: Any) -> Any:
        return function(*args, output=Output(form, colours, paged, kwargs.get("source"), streams=jsonl), **kwargs)

    wrapped.__name__, wrapped.__doc__ = function.__name__, function.__doc__
    wrapped.__dict__.update(function.__dict__)
    others = (set() if issues else OF_ISSUES) | (set() if routes else OF_ROUTES)
    forms = [name for name in FORMS if name not in others or (jsonl and name in _AT_ONCE)]
    form = click.option("--format", "form", type=click.Choice(forms), default="table", show_default=True, help="Form of the output.")
    colour = click.option(
        "--colour",
        "colours",
        type=click.Choice(_COLOURS),
        default="auto",
        show_default=True,
        help="auto: on a terminal, unless NO_COLOR is set.",
    )
    pager = click.option(
        "--pager/--no-pager", "paged", default=True, help="Show long output through PAGER on a terminal.  [default: --pager]"
    )
    return form(colour(pager(wrapped)))
