"""``fidelitas programs``."""

import click

from fidelitas.cli.options import Output, Source, format_option, hosts_of, say, source_options, tell_gaps
from fidelitas.reports.programs import programs_document, programs_table


@click.command
@click.argument("subject", required=False, metavar="[SUBJECT]")
@source_options
@format_option
def command(subject: str | None, source: Source, output: Output) -> None:
    """List setuid and setgid programs and file capabilities, each with where it comes from and what it amounts to.

    Those that need a look come first: programs that do whatever their user says, then those whose need of the bit is not known.
    """
    hosts = hosts_of(source.audit(), subject)
    output.table(programs_table(hosts), lambda: programs_document(hosts))
    tell_gaps(hosts)
    for host in hosts:
        if host.facts.programs is None:
            say(f"{host.subject}: nobody searched for such programs")
