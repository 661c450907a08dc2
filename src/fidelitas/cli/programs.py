"""``fidelitas programs``."""

import click

from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.output import Output, format_option, say
from fidelitas.cli.source import Source, source_options
from fidelitas.reports.programs import programs_report


@click.command
@click.argument("subject", required=False, metavar="[SUBJECT]")
@source_options
@format_option
def command(subject: str | None, source: Source, output: Output) -> None:
    """List setuid and setgid programs and file capabilities, each with where it comes from and what it amounts to.

    Those that need a look come first: programs that do whatever their user says, then those whose need of the bit is not known.
    """
    hosts, asked = source.hosts(subject)
    output.report(programs_report(hosts), of=asked)
    tell_gaps(asked)
    for host in hosts:
        if host.facts.programs is None:
            say(f"{host.subject}: nobody searched for such programs")
