"""``fidelitas holders``."""

import click

from fidelitas.cli.options import Output, Source, format_option, hosts_of, source_options, tell_gaps
from fidelitas.reports.holders import Filter, holders_document, holders_table, selected
from fidelitas.rights import Strength


@click.command
@click.option("--account", metavar="NAME", help="Only this holder; %NAME for a group.")
@click.option("--right", metavar="RIGHT", help="Only this right, or this kind: root, run-as, run-as-group, command.")
@click.option("--on", "subject", metavar="SUBJECT", help="Only on this subject.")
@click.option("--strength", type=click.Choice([str(strength) for strength in Strength]), help="Only of this strength.")
@source_options
@format_option
def command(account: str | None, right: str | None, subject: str | None, strength: str | None, source: Source, output: Output) -> None:
    """List who holds elevated rights, on what, by which route.

    Of each holder and right the strongest route is shown, "(+2)" tells of two more: see "fidelitas why".  Strength: direct, the system
    itself grants it; certain, a documented mechanism turns it into the right; conditional, it depends on a secret or on what was not
    read.
    """
    hosts = hosts_of(source.audit(), subject)
    rows = selected(hosts, Filter(account=account, right=right, strength=strength))
    told = source.provenance({host.subject: host for host, _ in rows}.values())
    output.table(holders_table(rows, told, whole=output.form == "csv"), lambda: holders_document(rows, told))
    tell_gaps(hosts)
