"""``fidelitas compare``."""

import click

from fidelitas.changes import differences
from fidelitas.cli.changes import show_changes
from fidelitas.cli.complete import subjects
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.names import unknown_name
from fidelitas.cli.output import Output, format_option
from fidelitas.cli.source import Source, source_options
from fidelitas.comparison import compare
from fidelitas.errors import RequestError
from fidelitas.reports.changes import Compared, changes_report
from fidelitas.reports.comparison import comparison_report
from fidelitas.rights import known_names


@click.command
@click.argument("first", metavar="ACCOUNT")
@click.argument("second", metavar="ACCOUNT")
@click.option("--surveys", "kind", flag_value="surveys", help="Compare two surveys instead: what changed from the first to the second.")
@click.option("--hosts", "kind", flag_value="hosts", help="Compare two hosts, or other subjects, instead, such as two of one role.")
@click.option("--on", "subject", shell_complete=subjects, metavar="SUBJECT", help="Only on this subject.")
@click.option("--all", "whole", is_flag=True, help="Also what both hold.")
@source_options
@format_option
def command(first: str, second: str, kind: str | None, subject: str | None, whole: bool, source: Source, output: Output) -> None:
    """Show what one account holds and the other lacks: groups and rights, host by host.

    With --hosts two subjects are compared, with --surveys two surveys: rights with what makes the difference, findings, accounts.
    """
    if kind is not None and (whole or (kind == "hosts" and subject)):
        raise RequestError(f"--all and --on are for accounts, and {kind} are compared", hint="Leave them out.")
    if kind == "surveys":
        show_changes(source, first, second, [subject] if subject else [], output)
    elif kind == "hosts":
        _compare_hosts(first, second, source, output)
    else:
        _compare_accounts(first, second, subject, source, output, whole=whole)


def _compare_hosts(first: str, second: str, source: Source, output: Output) -> None:
    audits = [source.audit(name, findings=True) for name in (first, second)]
    (one,), (other,) = (audit.subjects for audit in audits)
    before, after = ([finding for finding in audit.findings if finding.subject == audit.subjects[0].subject] for audit in audits)
    found = differences(one, other, before, after)
    output.report(changes_report(found, Compared(first, second, hosts=True)), of=(one, other))
    tell_gaps((one, other))


def _compare_accounts(first: str, second: str, subject: str | None, source: Source, output: Output, *, whole: bool) -> None:
    hosts = source.audit(subject).subjects
    for name in (first, second):
        if not any(host.knows(name) for host in hosts):
            where = f"subject {subject} has" if subject else f"{source.no_subject} has"
            raise unknown_name(f"{where} {'no' if subject else 'an'} account or group", name, known_names(hosts))
    found = compare(hosts, first, second)
    output.report(comparison_report(found, first, second, whole=whole), of=hosts)
    tell_gaps(hosts)
