"""``fidelitas ledger``."""

from datetime import UTC, datetime
from pathlib import Path

import click

from fidelitas.cli.complete import surveys
from fidelitas.cli.output import Output, format_option, say
from fidelitas.cli.progress import progress
from fidelitas.cli.source import default_ledger, ledger_option
from fidelitas.conclusions.rules import rules_digest
from fidelitas.errors import LedgerError, RequestError
from fidelitas.ledger import Ledger
from fidelitas.ledger.prune import keep, prune, release, to_prune
from fidelitas.ledger.transfer import copy_survey, export_survey
from fidelitas.ledger.verify import damages, drop_damaged, extent
from fidelitas.reports.ledger import damage_line, extent_report, prune_line
from fidelitas.reports.numbers import counted


@click.group
def command() -> None:
    """Show what the ledger holds, verify it, remove old surveys, and carry surveys from one ledger to another."""


@command.command("info")
@ledger_option
@format_option
def info(ledger: str | None, output: Output) -> None:
    """Show the surveys of the ledger: when, of how many subjects, and how much space all of it takes."""
    output.report(extent_report(extent(_known(ledger))))


@command.command("verify")
@click.option("--drop-damaged", "drop", is_flag=True, help="Remove damaged items, so that the next survey stores them anew.")
@ledger_option
def verify(ledger: str | None, *, drop: bool) -> None:
    """Work out the SHA-256 of all evidence anew, and report what is missing or changed, and which answers that costs.

    The exit status is 4 where anything is damaged.
    """
    known = _known(ledger)
    pieces = extent(known).pieces
    with progress("verifying"):
        found = list(damages(known))
    for damage in found:
        say(damage_line(damage))
    if drop and found:
        say(f"removed {counted(drop_damaged(known), 'damaged item')}")
    if found:
        lost = sum(damage.is_newest for damage in found)
        raise LedgerError(
            f"{counted(len(found), 'item')} of evidence damaged, {lost} of them of the newest of a subject",
            hint="Survey these subjects again.",
        )
    say(f"verified: {counted(pieces, 'piece')} of evidence, all as they came")


@command.command("prune")
@click.option("--keep-days", type=click.IntRange(0, 36_500), metavar="N", help="Keep the surveys of the last N days.")
@click.option("--keep-count", type=click.IntRange(min=0), metavar="N", help="Keep the last N surveys.")
@click.option("--preview", is_flag=True, help="List what would be removed, and remove nothing.")
@ledger_option
def prune_command(keep_days: int | None, keep_count: int | None, ledger: str | None, *, preview: bool) -> None:
    """Remove surveys that neither --keep-days nor --keep-count keeps, and give their space back.

    Surveys marked with "fidelitas ledger keep" stay, and so does the newest evidence of each subject.
    """
    if keep_days is None and keep_count is None:
        raise RequestError("nothing says which surveys to keep", hint="Say --keep-days N or --keep-count N.")
    known = _known(ledger)
    names = to_prune(known, datetime.now(UTC), keep_days, keep_count)
    if preview or not names:
        would = f"would remove {counted(len(names), 'survey')}, but for the newest evidence of each subject: {', '.join(names)}"
        say(would if names else "every survey is to be kept")
        return
    before = extent(known).size
    with progress("removing"):
        done = prune(known, names, datetime.now(UTC), rules_digest())
    say(prune_line(done, before - extent(known).size))


@command.command("keep")
@click.argument("survey", shell_complete=surveys)
@click.option("--reason", required=True, metavar="TEXT", help="Why the survey must stay.")
@ledger_option
def keep_command(survey: str, reason: str, ledger: str | None) -> None:
    """Mark SURVEY so that pruning leaves it."""
    known = _known(ledger)
    name = known.named(survey)
    keep(known, name, reason)
    say(f"survey {name} is kept: {reason}")


@command.command("release")
@click.argument("survey", shell_complete=surveys)
@ledger_option
def release_command(survey: str, ledger: str | None) -> None:
    """Take the mark of "fidelitas ledger keep" off SURVEY."""
    known = _known(ledger)
    name = known.named(survey)
    if not release(known, name):
        raise RequestError(f"survey {name} is not marked to be kept", hint='"fidelitas ledger info" lists the marked ones.')
    say(f"survey {name} may be pruned")


@command.command("export")
@click.argument("survey", shell_complete=surveys)
@click.argument("file", type=click.Path(path_type=Path))
@ledger_option
def export(survey: str, file: Path, ledger: str | None) -> None:
    """Write SURVEY with all its evidence to FILE, which is a ledger in itself: --ledger FILE.sqlite answers from it."""
    known = _known(ledger)
    if file.suffix != ".sqlite":
        raise RequestError(f'"{file}" does not end in .sqlite', hint="By its ending the file is recognised as a ledger.")
    with progress("exporting"):
        found = export_survey(known, known.named(survey), file)
    say(f'survey {found.name} of {counted(len(found.subjects), "subject")} is in "{file}"')


@command.command("import")
@click.argument("file", type=click.Path(path_type=Path))
@ledger_option
def import_command(file: Path, ledger: str | None) -> None:
    """Add all surveys of FILE, an exported survey or another ledger, to the ledger."""
    other, known = _known(str(file)), Ledger(ledger or default_ledger())
    for name in other.names():
        with progress(f"importing {name}"):
            found = copy_survey(other, name, known)
        say(f"survey {found.name} of {counted(len(found.subjects), 'subject')} was imported")


def _known(ledger: str | None) -> Ledger:
    """Return a ledger that holds something; refuse any other place."""
    found = Ledger(ledger or default_ledger())
    if not found.names():
        raise found.nothing_finished()
    return found
