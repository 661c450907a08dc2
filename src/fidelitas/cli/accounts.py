"""``fidelitas accounts``."""

from datetime import UTC, datetime

import click

from fidelitas.cli.complete import subjects
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.output import Output, format_option
from fidelitas.cli.source import Source, source_options
from fidelitas.reports.accounts import Accounts, accounts_report


@click.command
@click.argument("subject", required=False, shell_complete=subjects)
@click.option("--kind", metavar="KIND", help="Only accounts of this kind: person, service, system, root, role.")
@click.option("--elevated", is_flag=True, help="Only accounts with elevated rights.")
@source_options
@format_option
def command(subject: str | None, kind: str | None, source: Source, output: Output, *, elevated: bool) -> None:
    """List the accounts of SUBJECT, or of all: kind, user and group IDs, groups, password, keys, last login, furthest right."""
    found = source.audit(subject).subjects
    accounts = Accounts(found, kind=kind, elevated=elevated)
    output.report(accounts_report(accounts, source.last_logins({one.subject for one in found}), datetime.now(UTC)), of=found)
    tell_gaps(found)
