"""``fidelitas findings``."""

import click

from fidelitas.cli.gaps import note_unread
from fidelitas.cli.names import unknown_name
from fidelitas.cli.output import Output, format_option, say
from fidelitas.cli.source import Source, source_options
from fidelitas.findings import Severity
from fidelitas.platforms import check_names
from fidelitas.reports.coverage import gap_lines, gaps_line
from fidelitas.reports.findings import findings_report

_SEVERITIES = [str(severity) for severity in Severity]


@click.command
@click.option("--on", "subject", metavar="SUBJECT", help="Only on this subject.")
@click.option("--check", "only", metavar="CHECK", multiple=True, help="Only of this check, or of a theme, such as login; repeatable.")
@click.option("--severity", type=click.Choice(_SEVERITIES), default="info", show_default=True, help="Only of this severity or worse.")
@click.option(
    "--fail-on",
    type=click.Choice([*_SEVERITIES, "never"]),
    default="high",
    show_default=True,
    help="Exit with 1 at this severity or worse.",
)
@click.option("--allow-gaps", is_flag=True, help="Do not exit with 3 because evidence is missing.")
@source_options
@format_option
def command(
    subject: str | None, only: tuple[str, ...], severity: str, fail_on: str, allow_gaps: bool, source: Source, output: Output
) -> None:
    """List what is risky or unexpected, worst first: what was found and where, why it matters, and what to do.

    Exit status: 1 where there is a finding of --fail-on or worse, else 3 where evidence is missing, else 0.
    """
    known = check_names()
    for name in only:
        if name not in known:
            raise unknown_name("there is no check or theme", name, known)
    audit = source.audit(subject, findings=True)
    hosts = audit.subjects
    names = {host.subject for host in hosts}
    every = sorted([*audit.findings, *source.use_findings(names)], key=lambda finding: finding.severity)
    found = [finding for finding in every if finding.subject in names and (not only or {finding.check, finding.theme} & set(only))]
    shown = [finding for finding in found if finding.severity <= Severity[severity.upper()]]
    gaps = [gap for host in hosts for gap in host.gaps]
    output.report(findings_report(shown, complete=not gaps))
    for line in gap_lines(gaps):
        say(line)
    if gaps:
        say(gaps_line(gaps))
    note_unread(gaps)
    if fail_on != "never" and any(finding.severity <= Severity[fail_on.upper()] for finding in found):
        raise SystemExit(1)
    if gaps and not allow_gaps:
        raise SystemExit(3)
