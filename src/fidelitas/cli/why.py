"""``fidelitas why``."""

import click

from fidelitas.cli.complete import accounts, subjects
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.names import note_ambiguous, refuse_unknown, unknown_name
from fidelitas.cli.output import Output, format_option
from fidelitas.cli.source import Source, source_options
from fidelitas.reports.why import why_report
from fidelitas.rights import known_names


@click.command
@click.argument("account", shell_complete=accounts)
@click.argument("place", required=False, metavar="[SUBJECT[/DATABASE/OBJECT]]", shell_complete=subjects)
@source_options
@format_option(routes=True)
def command(account: str, place: str | None, source: Source, output: Output) -> None:
    """Show every route by which ACCOUNT has an elevated right, link by link, each with file and line.

    If the logs record it, also since when, by whom, and in which log line.

    ACCOUNT may also be a group, as %NAME, or "any account".  Without SUBJECT all hosts are shown that know it.  With an object of a
    database: what ACCOUNT may do with it, and by which routes.
    """
    subject, _, path = (place or "").partition("/")
    hosts = source.audit(subject or None).subjects
    known = [host for host in hosts if host.knows(account)]
    if not known:
        raise unknown_name(f"{source.no_subject} has an account, group or role", account, known_names(hosts))
    refuse_unknown(known, [(subject, path)])
    note_ambiguous(known, account)
    output.report(why_report(account, known, source.provenance(known), path), of=known)
    tell_gaps(known)
