"""``fidelitas findings``."""

import re
from collections.abc import Sequence
from pathlib import Path

import click

from fidelitas.audit import Audit
from fidelitas.charter import AcceptedFinding, review
from fidelitas.cli.charter_file import charter_in_use, charter_options
from fidelitas.cli.complete import checks, subjects
from fidelitas.cli.gaps import note_unread
from fidelitas.cli.names import unknown_name
from fidelitas.cli.output import Output, format_option, say
from fidelitas.cli.source import Source, source_options
from fidelitas.excerpts import excerpt, known_since
from fidelitas.findings import Finding, Severity
from fidelitas.platforms import check_names
from fidelitas.reports.coverage import gap_lines, gaps_line
from fidelitas.reports.finding_context import context_lines
from fidelitas.reports.findings import Detail, findings_report

_SEVERITIES = [str(severity) for severity in Severity]
_KEY = re.compile(r"[0-9a-f]{12}")


@click.command
@click.argument("wanted", nargs=-1, metavar="[CHECK|KEY]...", shell_complete=checks)
@click.option("--on", "subject", shell_complete=subjects, metavar="SUBJECT", help="Only on this subject.")
@click.option("--severity", type=click.Choice(_SEVERITIES), default="info", show_default=True, help="Only of this severity or worse.")
@click.option("--explain", is_flag=True, help="With the evidence, why it matters, and how to fix it.")
@click.option("--each", is_flag=True, help="Every finding in its own row, not equal findings of several subjects together.")
@click.option(
    "--fail-on",
    type=click.Choice([*_SEVERITIES, "never"]),
    default="high",
    show_default=True,
    help="Exit with 1 at this severity or worse.",
)
@charter_options
@click.option("--allow-gaps", is_flag=True, help="Do not exit with 3 because evidence is missing.")
@source_options
@format_option(issues=True)
def command(
    wanted: tuple[str, ...],
    subject: str | None,
    severity: str,
    fail_on: str,
    charter: Path | None,
    mapped: Path | None,
    source: Source,
    output: Output,
    *,
    explain: bool,
    each: bool,
    allow_gaps: bool,
) -> None:
    """List what is risky or unexpected, worst first: how bad, where, what.

    CHECK is a check, such as sudo.overridden-rule, or a family of checks, such as login; KEY is one finding. Named ones are explained: the
    evidence, why it matters, how to fix it.

    With --charter, findings that it accepts are counted and not listed; those whose exception has expired are a severity worse.

    Exit status: 1 where there is a finding of --fail-on or worse, else 3 where evidence is missing, else 0.
    """
    keys, names = {one for one in wanted if _KEY.fullmatch(one)}, {one for one in wanted if not _KEY.fullmatch(one)}
    known = check_names()
    for name in sorted(names - known):
        raise unknown_name("there is no check or family of checks", name, known)
    audit = source.audit(subject, findings=True)
    hosts = audit.subjects
    subjects = {host.subject for host in hosts}
    every = source.every_finding(audit)
    excepted: list[tuple[Finding, AcceptedFinding]] = []
    if charter is not None:
        use = charter_in_use(charter, mapped, source.tags_of(), hosts, whole=False)
        reviewed = review(every, use.charter.exceptions, use.scope, use.day)
        excepted = [(finding, entry) for finding, entry in reviewed.excepted if finding.subject in subjects and finding.key not in keys]
        named = [finding for finding, _ in reviewed.excepted if finding.key in keys]  # who asks for one by its key wants to see it
        every = sorted([*reviewed.findings, *named], key=lambda finding: finding.severity)
    found = [one for one in every if one.subject in subjects and (not wanted or one.key in keys or {one.check, one.theme} & names)]
    for key in sorted(keys - {finding.key for finding in found}) if keys else ():
        raise unknown_name("there is no finding with the key", key, (finding.key for finding in every))
    shown = [finding for finding in found if finding.severity <= Severity[severity.upper()]]
    gaps = sum(host.gap_count for host in hosts)
    context = _context([finding for finding in shown if keys and finding.key in keys], audit, source)
    detail = Detail(each=each or bool(keys), explain=explain or bool(wanted))
    output.report(findings_report(shown, complete=not gaps, detail=detail, context=context, excepted=excepted), of=hosts)
    for line in gap_lines((gap for host in hosts for gap in host.gaps), gaps):
        say(line)
    if gaps:
        say(gaps_line(gaps))
    note_unread(gap for host in hosts for gap in host.fatal_gaps)
    if fail_on != "never" and any(finding.severity <= Severity[fail_on.upper()] for finding in found):
        raise SystemExit(1)
    if gaps and not allow_gaps:
        raise SystemExit(3)


def _context(findings: Sequence[Finding], audit: Audit, source: Source) -> dict[str, list[str]]:
    """Return the lines of evidence around each finding, what rests on them, and since when the surveys show it, by its key."""
    found = {}
    for finding in findings:
        rights = next(one for one in audit.subjects if one.subject == finding.subject)
        history = [bundle for _, bundles in source.evidence(finding.subject) for bundle in bundles]
        lines = [excerpt(history[-1], place) if history else [] for place in finding.places]
        found[finding.key] = context_lines(finding, rights, lines, known_since(history, finding.key), len(history))
    return found
