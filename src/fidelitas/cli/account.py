"""``fidelitas account``."""

import click

from fidelitas.cli.options import Output, Source, format_option, hosts_of, source_options, tell_gaps
from fidelitas.errors import RequestError
from fidelitas.reports.account import account_blocks, account_document
from fidelitas.reports.holders import Filter, holders_table, selected


@click.command
@click.argument("name")
@click.option("--on", "subject", metavar="SUBJECT", help="Only on this subject.")
@source_options
@format_option
def command(name: str, subject: str | None, source: Source, output: Output) -> None:
    """Show one account's page: on each host who it is, its groups, and all that it may run as whom."""
    hosts = hosts_of(source.audit(), subject)
    if not any(name in host.population.by_name for host in hosts):
        raise RequestError(f'no host in evidence has an account "{name}"')
    if output.form == "table":
        output.blocks(account_blocks(name, hosts))
    else:
        output.table(holders_table(selected(hosts, Filter(account=name)), whole=True), lambda: account_document(name, hosts))
    tell_gaps(hosts)
