"""``fidelitas coverage``."""

import click

from fidelitas.cli.complete import subjects
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.output import Output, format_option
from fidelitas.cli.source import Source, source_options
from fidelitas.reports.coverage import coverage_report


@click.command
@click.option("--on", "subject", shell_complete=subjects, metavar="SUBJECT", help="Only of this subject.")
@click.option("--each", is_flag=True, help="Every item in its own row.")
@source_options
@format_option
def command(subject: str | None, each: bool, source: Source, output: Output) -> None:
    """Show what was read, what was not and why, and which answers that weakens.

    What is absent is a fact: the host has no such file.  A gap is evidence that was wanted and could not be had.
    """
    hosts = source.audit(subject).subjects
    output.report(coverage_report(hosts, each=each), of=hosts)
    tell_gaps(hosts)
