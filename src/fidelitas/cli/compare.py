"""``fidelitas compare``."""

import click

from fidelitas.cli.complete import subjects
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.names import unknown_name
from fidelitas.cli.output import Output, format_option
from fidelitas.cli.source import Source, source_options
from fidelitas.comparison import compare
from fidelitas.reports.comparison import comparison_report


@click.command
@click.argument("first", metavar="ACCOUNT")
@click.argument("second", metavar="ACCOUNT")
@click.option("--on", "subject", shell_complete=subjects, metavar="SUBJECT", help="Only on this subject.")
@click.option("--all", "whole", is_flag=True, help="Also what both hold.")
@source_options
@format_option
def command(first: str, second: str, subject: str | None, whole: bool, source: Source, output: Output) -> None:
    """Show what one account holds and the other lacks: groups and rights, host by host."""
    hosts = source.audit(subject).subjects
    for name in (first, second):
        if not any(host.knows(name) for host in hosts):
            where = f"subject {subject} has" if subject else "no subject in the ledger has"
            raise unknown_name(
                f"{where} {'no' if subject else 'an'} account or group", name, (known for host in hosts for known in host.names())
            )
    found = compare(hosts, first, second)
    output.report(comparison_report(found, first, second, whole=whole), of=hosts)
    tell_gaps(hosts)
