"""``fidelitas coverage``."""

import click

from fidelitas.cli.options import Output, Source, format_option, source_options, subjects_of, tell_gaps
from fidelitas.reports.coverage import coverage_document, coverage_table


@click.command
@click.option("--on", "subject", metavar="SUBJECT", help="Only of this subject.")
@source_options
@format_option
def command(subject: str | None, source: Source, output: Output) -> None:
    """Tell what was read, what was not and why, and which answers that weakens.

    What is absent is a fact: the host has no such file.  A gap is evidence that was wanted and could not be had.
    """
    hosts = subjects_of(source.audit(), subject)
    output.table(coverage_table(hosts), lambda: coverage_document(hosts))
    tell_gaps(hosts)
