"""``fidelitas export``."""

from functools import partial
from pathlib import Path

import click

from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.output import say
from fidelitas.cli.source import Source, source_options
from fidelitas.exporting.tables import tables_of
from fidelitas.exporting.writing import DATABASE, Further, write_tables
from fidelitas.extras import installed_extra
from fidelitas.reports.numbers import counted


@click.command
@click.argument("folder", type=click.Path(file_okay=False, path_type=Path))
@click.option("--parquet", is_flag=True, help="Also write each table as a file of Parquet.")
@source_options
def command(folder: Path, parquet: bool, source: Source) -> None:
    """Write tables for analysts into a new FOLDER: subjects, accounts, holdings, links, findings, gaps, and events of logs.

    Each is a CSV file, and all are in one database of SQLite. Their columns are in docs/formats.md.
    """
    further = _parquet() if parquet else {}
    found = source.audit(findings=True)
    subjects = {one.subject for one in found.subjects}
    tables = tables_of(found.subjects, source.every_finding(found), source.tags_of(), partial(source.read_events, subjects))
    counts = write_tables(folder, tables, further)
    counts_text = ", ".join(counted(count, name.rstrip("s")) for name, count in counts.items())
    say(f'"{folder}" holds {counts_text}, as CSV and in {DATABASE}')
    tell_gaps(found.subjects)


def _parquet() -> Further:
    with installed_extra():
        from fidelitas.exporting.parquet import into_parquet  # noqa: PLC0415 takes half a second to load

    return {"parquet": into_parquet}
