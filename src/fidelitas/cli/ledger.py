"""``fidelitas ledger``."""

from pathlib import Path

import click

from fidelitas.cli.output import Output, format_option, say
from fidelitas.cli.progress import progress
from fidelitas.cli.source import default_ledger, ledger_option
from fidelitas.errors import LedgerError, RequestError
from fidelitas.ledger import Ledger, damages, extent
from fidelitas.reports.ledger import damage_line, extent_report
from fidelitas.reports.numbers import counted


@click.group
def command() -> None:
    """Show what the ledger holds, and verify that it is what it was."""


@command.command("info")
@ledger_option
@format_option
def info(ledger: Path | None, output: Output) -> None:
    """Show the surveys of the ledger: when, of how many subjects, and how much space all of it takes."""
    output.report(extent_report(extent(_known(ledger))))


@command.command("verify")
@ledger_option
def verify(ledger: Path | None) -> None:
    """Work out the SHA-256 of all evidence anew, and report what is missing or changed, and which answers that costs.

    The exit status is 4 where anything is damaged.
    """
    known = _known(ledger)
    pieces = extent(known).pieces
    with progress("verifying"):
        found = list(damages(known))
    for damage in found:
        say(damage_line(damage))
    if found:
        lost = sum(damage.is_newest for damage in found)
        raise LedgerError(
            f"{counted(len(found), 'piece')} of evidence damaged, {lost} of them the newest of a subject",
            hint="Survey these subjects again.",
        )
    say(f"verified: {counted(pieces, 'piece')} of evidence, all as they came")


def _known(ledger: Path | None) -> Ledger:
    """Return a ledger that holds something; refuse any other folder."""
    found = Ledger(ledger or default_ledger())
    if not found.surveys():
        raise RequestError(f'ledger "{found.path}" holds no survey', hint='Run "fidelitas survey" first.')
    return found
