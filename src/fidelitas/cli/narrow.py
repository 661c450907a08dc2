"""``fidelitas narrow``."""

from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path

import click

from fidelitas.cli.complete import subjects
from fidelitas.cli.gaps import note_unread
from fidelitas.cli.names import unknown_name
from fidelitas.cli.new_file import write_new_file
from fidelitas.cli.output import Output, format_option, say
from fidelitas.cli.progress import progress
from fidelitas.cli.source import Source, log_option, source_options
from fidelitas.cli.times import reader_zone, time_of
from fidelitas.errors import RequestError
from fidelitas.facts import Event, EventKind
from fidelitas.logbook import EventFilter, Logbook
from fidelitas.narrowing import HostCase, Narrowing, Proposal, gather_uses, narrow, shared_policies
from fidelitas.reports.narrowing import narrowing_report
from fidelitas.reports.usage import outside_lines
from fidelitas.rights import Identity
from fidelitas.text import short_host_name


@click.command
@click.argument("accounts", nargs=-1, metavar="[ACCOUNT]...")
@log_option
@click.option("--on", "subject", shell_complete=subjects, metavar="SUBJECT", help="Only on this subject, not on every host of the ledger.")
@click.option("--since", metavar="TIME", help="By uses from this time on: 2026-09-01, or 90d.  [default: all that is logged]")
@click.option("--until", metavar="TIME", help="By uses before this time.")
@click.option("--by-account", is_flag=True, help="Name the accounts that used each command, not the groups of the rule.")
@click.option("--keep-unused", is_flag=True, help="Leave statements that nothing used as they are.")
@click.option("--keep-break-glass", is_flag=True, help="Grant rare uses that give root still, each marked, with a password.")
@click.option("--out", "folder", type=click.Path(file_okay=False, path_type=Path), metavar="DIR", help="Write the changed files below DIR.")
@source_options
@format_option
def command(
    accounts: tuple[str, ...],
    subject: str | None,
    since: str | None,
    until: str | None,
    folder: Path | None,
    source: Source,
    output: Output,
    *,
    by_account: bool,
    keep_unused: bool,
    keep_break_glass: bool,
) -> None:
    """Propose a sudo policy that allows what was used and little more, with every logged use replayed against it.

    \b
        fidelitas narrow --since 90d --on tern
        fidelitas narrow --out narrower && visudo -c -f narrower/tern/etc/sudoers

    Each statement becomes rules for just the commands and arguments that were used.  Commands that give root are not among them: an
    editor becomes sudoedit, a pager gets --no-pager, and rare uses are marked break-glass.  NOPASSWD stays where a command was used
    without a terminal.  Statements that nothing used are taken out.  Nothing is changed on any host.

    With ACCOUNT, only statements about these accounts change.

    Exit status: 1 the policy would lock everyone out; else 3 where logs do not cover the window, or are missing for a host.
    """  # noqa: D301 Click wants the character itself
    now = datetime.now(UTC)
    wanted = EventFilter(
        kinds=frozenset({EventKind.USED}), since=time_of(since, now), until=time_of(until, now), host=subject if source.logs else None
    )
    events: list[Event] = []
    book = source.logbook(wanted, lambda record: events.append(record.event))
    cases = _cases(source, subject, events)
    _refuse_unknown(accounts, cases)
    logged = [case for case in cases if book.use_of(case.subject) is not None]
    if not logged:
        raise RequestError("no log of a host in the ledger was read", hint="Survey hosts with their logs, or name logs with --log.")
    asked = Narrowing(by_account=by_account, keep_unused=keep_unused, keep_break_glass=keep_break_glass)
    chosen = frozenset(accounts)

    def is_wanted(who: Identity) -> bool:
        return not chosen or who.name in chosen

    with progress("narrowing"):
        proposals = [narrow(some, is_wanted, asked) for some in shared_policies(logged)]
    without = [case.subject for case in cases if case not in logged]
    output.report(narrowing_report(proposals, without))
    if folder is not None:
        _write(folder, proposals)
    _end(book, wanted, proposals, without)


def _cases(source: Source, subject: str | None, events: Sequence[Event]) -> list[HostCase]:
    """Return each Linux host that is asked about with the uses of sudo on it."""
    by_host: dict[str, list[Event]] = {}
    for event in events:
        by_host.setdefault(short_host_name(event.host or event.place.subject), []).append(event)
    takings = source.takings()
    return [
        HostCase(bundle.subject, bundle, gather_uses(by_host.get(short_host_name(bundle.subject), ())), takings)
        for bundle in source.bundles(subject)
        if bundle.platform == "linux"
    ]


def _refuse_unknown(accounts: Sequence[str], cases: Sequence[HostCase]) -> None:
    known = {name for case in cases for name in case.policy.population.by_name}
    for name in accounts:
        if name not in known:
            raise unknown_name("no host in evidence has an account", name, known)


def _write(folder: Path, proposals: Sequence[Proposal]) -> None:
    """Write the files of each policy below a folder of its first host's name; refuse to write over anything."""
    for one in proposals:
        for path, content in one.files.items():
            target = folder / one.hosts[0] / path.lstrip("/")
            write_new_file(target, content)
        if one.files:
            say(f'wrote {", ".join(one.files)} below "{folder / one.hosts[0]}"; check them with visudo -c -f')


def _end(book: Logbook, wanted: EventFilter, proposals: Sequence[Proposal], without: Sequence[str]) -> None:
    """Say what could not be read, and end with the status that follows from it."""
    for problem in (*(gap for gap in book.gaps if not gap.fatal), *book.unread):
        say(str(problem))
    note_unread(book.gaps)
    outside = outside_lines(book, wanted.since, wanted.until or datetime.now(UTC), reader_zone()) if wanted.since is not None else []
    for line in outside:
        say(line)
    if any(one.locked_out for proposal in proposals for one in proposal.rehearsals):
        raise SystemExit(1)
    if book.unread:
        raise SystemExit(4)
    if outside or without:
        raise SystemExit(3)
