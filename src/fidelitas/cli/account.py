"""``fidelitas account``."""

import click

from fidelitas.cli.complete import accounts, subjects
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.names import note_ambiguous, unknown_name
from fidelitas.cli.output import Output, format_option
from fidelitas.cli.source import Source, source_options
from fidelitas.reports.account import account_report
from fidelitas.rights import known_names


@click.command
@click.argument("name", shell_complete=accounts)
@click.option("--on", "subject", shell_complete=subjects, metavar="SUBJECT", help="Only on this subject.")
@source_options
@format_option
def command(name: str, subject: str | None, source: Source, output: Output) -> None:
    """Show one account: on each host its identity, groups, and what it may run as whom; and its rights elsewhere.

    NAME may also be a group, as %NAME: its members on each subject, and what it gives them.
    """
    subjects = source.audit(subject).subjects
    if not any(one.knows(name) for one in subjects):
        raise unknown_name(f"{source.no_subject} has an account or group", name, known_names(subjects))
    note_ambiguous(subjects, name)
    output.report(account_report(name, subjects), of=subjects)
    tell_gaps(subjects)
