"""``fidelitas admins``."""

import click

from fidelitas.administration import administration_of
from fidelitas.cli.complete import subjects
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.output import Output, format_option
from fidelitas.cli.source import Source, source_options
from fidelitas.reports.administration import administration_report


@click.command
@click.argument("subject", required=False, shell_complete=subjects)
@source_options
@format_option
def command(subject: str | None, source: Source, output: Output) -> None:
    """List who administers SUBJECT, or every subject: which groups, by which line, with their members; who does so without a group.

    Members of a directory and by a primary group are among them; members whose membership is in force after the next login only, and rules
    that are commented out, are shown as such.
    """
    found = source.audit(subject).subjects
    output.report(administration_report([administration_of(one, source.newest_evidence(one.subject)) for one in found]), of=found)
    tell_gaps(found)
