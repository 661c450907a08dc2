"""``fidelitas may``."""

import sys
from collections.abc import Iterable
from datetime import UTC, datetime
from ipaddress import ip_interface
from pathlib import Path

import click

from fidelitas.cli.output import Output, format_option
from fidelitas.cli.source import Source, bundle_of_root, one_source_options
from fidelitas.errors import RequestError
from fidelitas.inquiry import Inquiry, parse_time, run_as_of
from fidelitas.reports.decision import decision_report
from fidelitas.rights.linux.sudo import Host, Question, Verdict
from fidelitas.sources import FileScan, RootFiles, from_policy_file, from_this_machine


@click.command
@click.argument("words", nargs=-1, metavar="ACCOUNT [SUBJECT] -- COMMAND [ARGUMENT]...")
@click.option("--as", "run_as", metavar="USER[:GROUP]", help="As whom; :GROUP for the group alone.  [default: root]")
@click.option("--at", "time", metavar="TIME", help="When, in ISO 8601.  [default: now]")
@click.option("--path", "search", metavar="FOLDERS", help="The PATH of ACCOUNT, where the policy sets no secure_path.")
@click.option("--in", "folder", metavar="FOLDER", help="The folder that it is run in, for a command such as ./tool.")
@click.option("--root", type=click.Path(file_okay=False, path_type=Path), metavar="DIR", help="On the host whose root folder is DIR.")
@click.option("--policy", type=click.Path(dir_okay=False, path_type=Path), metavar="FILE", help="By this policy file.")
@click.option("--host", metavar="NAME", help="As if the host were called NAME.")
@click.option("--address", "addresses", metavar="ADDRESS/LENGTH", multiple=True, help="As if the host had this address; repeatable.")
@click.option(
    "--batch",
    type=click.File(encoding="utf-8", errors="surrogateescape"),
    metavar="FILE",
    help="Questions as JSON Lines; - for standard input.",
)
@one_source_options
@format_option
def command(
    words: tuple[str, ...],
    run_as: str | None,
    time: str | None,
    search: str | None,
    folder: str | None,
    root: Path | None,
    policy: Path | None,
    host: str | None,
    addresses: tuple[str, ...],
    batch: Iterable[str] | None,
    source: Source,
    output: Output,
) -> None:
    """Show whether ACCOUNT may run COMMAND, by which rule; if not, why in one sentence, what would allow it, and the nearest rules.

    Also shown: a group that no running session has yet, an expired account, one that cannot log in.

    The host is SUBJECT of the ledger or, with SUBJECT left out, the one of --root or --policy.  With --batch each line of FILE is a
    question, {"id", "account", "command": [...], "run_as", "run_as_group", "host", "addresses": [...], "at",
    "path", "folder"}, and each line of output
    its answer.

    Exit status: 0 allowed, 1 not allowed.
    """
    named = _host(host, addresses)
    if batch is not None:
        subject = words[0] if words else None
        inquiry, _ = _inquiry(subject, root, policy, named, source)
        now = datetime.now(UTC)
        sys.stdout.writelines(f"{answer}\n" for answer in inquiry.batch(batch, now))
        return
    account, subject, asked = _words(words, outside=root is not None or policy is not None)
    inquiry, subject = _inquiry(subject, root, policy, named, source)
    user, group = run_as_of(run_as)
    question = Question(account=account, command=asked, run_as=user, run_as_group=group, at=_time(time), path=search, folder=folder)
    answer = inquiry.ask(question, whole=True)
    output.report(decision_report(subject, question, answer, inquiry.policy))
    raise SystemExit(0 if answer.decision.verdict is Verdict.ALLOWED else 1)


def _words(words: tuple[str, ...], *, outside: bool) -> tuple[str, str | None, tuple[str, ...]]:
    """Return account, subject and command; the subject is left out where the host is not one of the ledger."""
    before = 1 if outside else 2
    if len(words) <= before:
        raise RequestError(
            "an account, a subject and a command are needed",
            hint="Such as: fidelitas may noor tern -- /usr/bin/id. With --root or --policy leave out the subject.",
        )
    return words[0], None if outside else words[1], words[before:]


def _time(text: str | None) -> datetime:
    try:
        return parse_time(text) if text else datetime.now(UTC)
    except ValueError as error:
        raise RequestError(f'"{text}" is not a time of ISO 8601', hint="Such as 2026-11-20T06:00.") from error


def _host(name: str | None, addresses: tuple[str, ...]) -> Host | None:
    if name is None and not addresses:
        return None
    try:
        interfaces = tuple(ip_interface(one) for one in addresses)
    except ValueError as error:
        raise RequestError(str(error), hint="Such as --address 10.1.2.3/24.") from error
    return Host(name=name or "localhost", resolves=False, addresses=interfaces)


def _inquiry(subject: str | None, root: Path | None, policy: Path | None, host: Host | None, source: Source) -> tuple[Inquiry, str]:
    """Return what the questions are put to, and what it is called."""
    if subject is None and root is None and policy is not None:
        return Inquiry(from_policy_file(policy, from_this_machine(scan=FileScan.NOWHERE).bundle), None, host), str(policy)
    if subject is None and root is None:
        raise RequestError("a subject is needed", hint="Name one of the ledger, or ask about a folder with --root.")
    evidence = source.bundles(subject)[0] if root is None else bundle_of_root(root)
    evidence = evidence if policy is None else from_policy_file(policy, evidence)
    takings = source.takings() if root is None else None
    return Inquiry(evidence, None if root is None else RootFiles(root), host, takings), evidence.subject
