"""``fidelitas connections``."""

import click

from fidelitas.cli.complete import subjects
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.output import Output, format_option
from fidelitas.cli.source import Source, source_options
from fidelitas.cli.times import reader_zone
from fidelitas.connections import connections
from fidelitas.reports.connections import connections_report


@click.command
@click.argument("subject", required=False, shell_complete=subjects)
@source_options
@format_option
def command(subject: str | None, source: Source, output: Output) -> None:
    """List who was logged in or connected when the evidence was taken: on SUBJECT or all; accounts with elevated rights first."""
    found = source.audit(subject).subjects
    taken = max((one.taken for one in found), default=None)
    output.report(connections_report(connections(found), taken, reader_zone()), of=found)
    tell_gaps(found)
