"""``fidelitas export``."""

from pathlib import Path

import click

from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.output import say
from fidelitas.cli.source import Source, source_options
from fidelitas.exporting.tables import tables_of
from fidelitas.exporting.writing import DATABASE, write_tables
from fidelitas.reports.numbers import counted


@click.command
@click.argument("folder", type=click.Path(file_okay=False, path_type=Path))
@source_options
def command(folder: Path, source: Source) -> None:
    """Write tables for analysts into a new FOLDER: subjects, accounts, holdings, links, findings and gaps.

    Each is a CSV file, and all are in one database of SQLite. Their columns are in docs/formats.md. Events of logs are
    written by "fidelitas usage --format jsonl".
    """
    found = source.audit(findings=True)
    counts = write_tables(folder, tables_of(found.subjects, source.every_finding(found), source.tags_of()))
    counts_text = ", ".join(counted(count, name.rstrip("s")) for name, count in counts.items())
    say(f'"{folder}" holds {counts_text}, as CSV and in {DATABASE}')
    tell_gaps(found.subjects)
