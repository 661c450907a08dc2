"""``fidelitas account``."""

import click

from fidelitas.cli.options import Output, Source, format_option, source_options, subjects_of, tell_gaps, unknown_name
from fidelitas.reports.account import account_blocks, account_document
from fidelitas.reports.holders import Filter, holders_table, names_of, selected
from fidelitas.rights import HostRights, ServerRights


@click.command
@click.argument("name")
@click.option("--on", "subject", metavar="SUBJECT", help="Only on this subject.")
@source_options
@format_option
def command(name: str, subject: str | None, source: Source, output: Output) -> None:
    """Show one account's page: on each host who it is, its groups, and all that it may run as whom; and what it is on servers."""
    subjects = subjects_of(source.audit(), subject)
    hosts = [one for one in subjects if isinstance(one, HostRights)]
    servers = [one for one in subjects if isinstance(one, ServerRights) and one.knows(name)]
    if not servers and not any(name in host.population.by_name for host in hosts):
        raise unknown_name("no subject in evidence has an account", name, (known for one in subjects for known in names_of(one)))
    if output.form == "table":
        output.blocks(account_blocks(name, hosts, servers))
    else:
        rows = selected([*hosts, *servers], Filter(account=name))
        output.table(holders_table(rows, whole=True), lambda: account_document(name, hosts, servers))
    tell_gaps([*hosts, *servers])
