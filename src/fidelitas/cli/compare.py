"""``fidelitas compare``."""

import click

from fidelitas.cli.options import Output, Source, format_option, source_options, subjects_of, tell_gaps, unknown_name
from fidelitas.comparison import compare
from fidelitas.reports.comparison import comparison_document, comparison_table
from fidelitas.reports.holders import names_of


@click.command
@click.argument("first", metavar="ACCOUNT")
@click.argument("second", metavar="ACCOUNT")
@click.option("--on", "subject", metavar="SUBJECT", help="Only on this subject.")
@click.option("--all", "whole", is_flag=True, help="Also what both hold.")
@source_options
@format_option
def command(first: str, second: str, subject: str | None, whole: bool, source: Source, output: Output) -> None:
    """Tell what one account holds and the other lacks: groups and rights, host by host."""
    hosts = subjects_of(source.audit(), subject)
    for name in (first, second):
        if not any(host.knows(name) for host in hosts):
            where = subject or "any subject in the ledger"
            raise unknown_name(f"on {where} there is no account", name, (known for host in hosts for known in names_of(host)))
    found = compare(hosts, first, second)
    output.table(comparison_table(found, first, second, whole=whole), lambda: comparison_document(found, first, second))
    tell_gaps(hosts)
