"""``fidelitas holders``."""

from pathlib import Path

import click

from fidelitas.charter import Sanction
from fidelitas.cli.charter_file import charter_in_use, charter_options
from fidelitas.cli.complete import accounts, subjects
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.names import note_ambiguous, refuse_unknown, unknown_name
from fidelitas.cli.output import Output, format_option
from fidelitas.cli.source import Source, source_options
from fidelitas.errors import RequestError
from fidelitas.reports.control import control_report
from fidelitas.reports.holders import Filter, holders_report, is_right, right_names, rows_on
from fidelitas.rights import Strength, known_names

# Of more subjects the table without a filter counts: the holdings of all would be read by no one.
_MOST_LISTED = 200


@click.command
@click.option("--account", metavar="NAME", shell_complete=accounts, help="Only this holder; %NAME for a group.")
@click.option("--right", metavar="RIGHT", help="Only this right, or this kind: root, run-as, run-as-group, command.")
@click.option(
    "--on",
    "places",
    multiple=True,
    shell_complete=subjects,
    metavar="SUBJECT[/DATABASE[/OBJECT]]",
    help="Only on this subject; of a database server also who may do what with a database, or a table, function or other object of it. May "
    "be repeated.",
)
@click.option("--strength", type=click.Choice([str(strength) for strength in Strength]), help="Only of this strength.")
@charter_options
@click.option("--unsanctioned", is_flag=True, help="With --charter: only what it does not sanction.")
@click.option("--each", is_flag=True, help="Every holding in its own row.")
@click.option("--matrix", is_flag=True, help="Accounts against subjects: the furthest right of each.")
@source_options
@format_option
def command(
    account: str | None,
    right: str | None,
    places: tuple[str, ...],
    strength: str | None,
    charter: Path | None,
    mapped: Path | None,
    source: Source,
    output: Output,
    *,
    unsanctioned: bool,
    each: bool,
    matrix: bool,
) -> None:
    """List who holds elevated rights, on what, by which route.

    Of each holder and right the strongest route is shown; "fidelitas why" shows all.  Strength: direct, the system
    itself grants it; certain, a documented mechanism turns it into the right; conditional, it depends on a secret or on what was not
    read.  Of more than 200 subjects, asked for without a filter, the table says how many have full control of each.
    """
    if unsanctioned and charter is None:
        raise RequestError("--unsanctioned is about a charter", hint="Name it with --charter.")
    asked = [(subject, path) for subject, _, path in (place.partition("/") for place in places)]
    names = sorted({subject for subject, _ in asked})
    hosts = [host for name in names for host in source.audit(name).subjects] if names else source.audit().subjects
    if account is not None and not any(host.knows(account) for host in hosts):
        raise unknown_name(f"{source.no_subject} has an account, group or role", account, known_names(hosts))
    if account is not None:
        note_ambiguous(hosts, account)
    if right is not None and not is_right(right, hosts):
        raise unknown_name("there is no right", right, right_names(hosts))
    refuse_unknown(hosts, asked)
    unfiltered = not (account or right or names or strength or charter or each or matrix)
    if unfiltered and len(hosts) > _MOST_LISTED:
        output.report(control_report(hosts, lambda: holders_report(rows_on(hosts, asked, Filter()), source.provenance(hosts))), of=hosts)
        tell_gaps(hosts)
        return
    rows = rows_on(hosts, asked, Filter(account=account, right=right, strength=strength))
    sanctions = None if charter is None else charter_in_use(charter, mapped, source.tags_of(), hosts, whole=False).sanctions
    if sanctions is not None and unsanctioned:
        rows = [(host, holding) for host, holding in rows if sanctions.judge(holding).sanction is not Sanction.YES]
    told = source.provenance({host.subject: host for host, _ in rows}.values())
    output.report(holders_report(rows, told, each=each, matrix=matrix, sanctions=sanctions), of=hosts)
    tell_gaps(hosts)
