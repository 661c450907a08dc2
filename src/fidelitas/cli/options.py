"""Options that several commands share, and the one place where output meets the terminal."""

import json
import os
import shutil
import sys
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, tzinfo
from pathlib import Path
from typing import Any, TypeVar
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import click

from fidelitas.audit import Audit, audit
from fidelitas.errors import RequestError
from fidelitas.evidence import Bundle
from fidelitas.ledger import Ledger
from fidelitas.reports import FORMATS, Table, render
from fidelitas.reports.blocks import Block, render_blocks
from fidelitas.reports.coverage import gaps_line
from fidelitas.rights import HostRights
from fidelitas.sources import FileScan, from_this_machine
from fidelitas.text import plain

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
    click.echo(f"fidelitas: {plain(message)}", err=True)


def default_ledger() -> Path:
    """Return where the ledger is unless it is named: FIDELITAS_LEDGER, else the user's state folder (XDG base directories)."""
    named = os.environ.get("FIDELITAS_LEDGER")
    if named:
        return Path(named)
    state = os.environ.get("XDG_STATE_HOME")
    return (Path(state) if state else Path.home() / ".local" / "state") / "fidelitas" / "ledger"


@dataclass(frozen=True, slots=True)
class Source:
    """Which evidence a command answers from."""

    ledger: Path
    survey: str | None

    def bundles(self, subject: str | None = None) -> list[Bundle]:
        """Return the evidence in the ledger, of one subject or of all; refuse a subject that is not there."""
        bundles = Ledger(self.ledger).bundles(self.survey)
        if not bundles:
            raise RequestError(f'ledger "{self.ledger}" holds no survey', hint='Run "fidelitas survey" first.')
        found = [bundle for bundle in bundles if subject in (None, bundle.subject)]
        if not found:
            raise unknown_subject(subject, [bundle.subject for bundle in bundles])
        return found

    def audit(self) -> Audit:
        """Return the audit of the evidence in the ledger."""
        return audit(self.bundles())


def unknown_subject(subject: str | None, known: Sequence[str]) -> RequestError:
    """Return the error that there is no evidence of a subject, and of which there is."""
    return RequestError(f'there is no evidence of a subject "{subject}"', hint=f"There is of: {', '.join(known[:10])}.")


def bundle_of_root(root: Path) -> Bundle:
    """Return the evidence of a host whose root folder is given, named after the folder where it does not name itself."""
    bundle = from_this_machine(root, scan=FileScan.NOWHERE).bundle  # sudo policies need no search of the files
    return bundle if bundle.subject else bundle.named(root.absolute().name or "host")


def hosts_of(found: Audit, subject: str | None) -> tuple[HostRights, ...]:
    """Return the hosts that are asked about; refuse one that is not in the ledger."""
    if subject is None:
        return found.hosts
    hosts = tuple(host for host in found.hosts if host.subject == subject)
    if not hosts:
        raise unknown_subject(subject, [host.subject for host in found.hosts])
    return hosts


def tell_gaps(hosts: Sequence[HostRights]) -> None:
    """Say on standard error that evidence is missing, where it is."""
    gaps = [gap for host in hosts for gap in host.facts.gaps]
    if gaps:
        say(gaps_line(gaps))


def source_options(function: F) -> F:
    """Add the options that name the evidence; they arrive as one `source`."""

    def wrapped(*args: Any, ledger: Path | None, survey_name: str | None, **kwargs: Any) -> Any:
        return function(*args, source=Source(ledger or default_ledger(), survey_name), **kwargs)

    wrapped.__name__, wrapped.__doc__ = function.__name__, function.__doc__
    wrapped.__dict__.update(function.__dict__)
    survey = click.option("--survey", "survey_name", metavar="NAME", help="Answer from this survey alone, not from the newest evidence.")
    return ledger_option(survey(wrapped))  # type: ignore[return-value]


def ledger_option(function: F) -> F:
    """Add --ledger."""
    return click.option(
        "--ledger",
        type=click.Path(file_okay=False, path_type=Path),
        metavar="DIR",
        help="Where surveys are kept.  [default: $FIDELITAS_LEDGER, or fidelitas/ledger in the user's state folder]",
    )(function)


def format_option(function: F) -> F:
    """Add --format; it arrives as an `output`."""

    def wrapped(*args: Any, form: str, **kwargs: Any) -> Any:
        return function(*args, output=Output(form), **kwargs)

    wrapped.__name__, wrapped.__doc__ = function.__name__, function.__doc__
    wrapped.__dict__.update(function.__dict__)
    option = click.option("--format", "form", type=click.Choice(FORMATS), default="table", show_default=True, help="Form of the output.")
    return option(wrapped)  # type: ignore[return-value]


def zone_of(text: str | None) -> tzinfo:
    """Return a time zone by its name, this machine's by default; refuse one that is not known."""
    if text is None:
        return datetime.now().astimezone().tzinfo or UTC
    try:
        return ZoneInfo(text)
    except (ZoneInfoNotFoundError, ValueError, OSError) as error:
        raise RequestError(f'there is no time zone "{text}"', hint="Give a name such as Europe/Lisbon, or UTC.") from error
