"""``fidelitas rehearse``."""

from collections.abc import Sequence
from pathlib import Path

import click

from fidelitas.audit import rights_in
from fidelitas.charter import Sanctions
from fidelitas.cli.charter_file import charter_in_use, people_option
from fidelitas.cli.complete import subjects
from fidelitas.cli.output import Output, format_option, say
from fidelitas.cli.source import Source, bundle_of_root, log_option, one_source_options
from fidelitas.errors import RequestError
from fidelitas.evidence import Bundle
from fidelitas.facts import Event, EventKind
from fidelitas.logbook import EventFilter
from fidelitas.memberships import Memberships
from fidelitas.rehearsal import Rehearsal, errors_of, rehearse
from fidelitas.replay import PolicyHistory, Replay, replay
from fidelitas.reports.rehearsal import rehearsal_report
from fidelitas.sources import POLICY, from_policy_file
from fidelitas.text import decode


@click.command
@click.argument("accounts", nargs=-1, metavar="[ACCOUNT]...")
@click.option("--policy", type=click.Path(dir_okay=False, path_type=Path), metavar="NEW", help="The new main policy file.")
@click.option("--add-member", "into", multiple=True, metavar="GROUP", help="Put each ACCOUNT into GROUP; repeatable.")
@click.option("--remove-member", "out_of", multiple=True, metavar="GROUP", help="Take each ACCOUNT out of GROUP; repeatable.")
@click.option("--like", metavar="SOURCE", help="Give each ACCOUNT the memberships of the account SOURCE.")
@click.option("--charter", type=click.Path(dir_okay=False, path_type=Path), metavar="FILE", help="Warn of gains that it does not sanction.")
@people_option
@log_option
@click.option("--on", "subject", shell_complete=subjects, metavar="SUBJECT", help="Only on this subject, not on every host of the ledger.")
@click.option("--root", type=click.Path(file_okay=False, path_type=Path), metavar="DIR", help="On the host whose root folder is DIR.")
@one_source_options
@format_option
def command(
    accounts: tuple[str, ...],
    policy: Path | None,
    into: tuple[str, ...],
    out_of: tuple[str, ...],
    like: str | None,
    charter: Path | None,
    mapped: Path | None,
    subject: str | None,
    root: Path | None,
    source: Source,
    output: Output,
) -> None:
    """Preview a change: a new sudo policy, or memberships of the ACCOUNTs.

    \b
        fidelitas rehearse --policy sudoers.new
        fidelitas rehearse --add-member docker tomas rada
        fidelitas rehearse --like noor tomas

    NEW replaces the main policy; what it includes is the host's own.  Every use of sudo in the logs, those of the ledger
    or of --log, is replayed against it, and what it would have refused is listed.  Elevated rights come first.  A warning is shown if
    nobody who can log in could become root any more.

    Exit status: 0 no errors; 1 a lock-out; 4 the new policy has errors.
    """  # noqa: D301 Click wants the character itself
    memberships = Memberships(accounts=accounts, into=into, out_of=out_of, like=like)
    if policy is None and not memberships:
        raise RequestError("nothing to rehearse", hint="Name a new policy with --policy, or a membership with --add-member.")
    if bool(memberships) != bool(accounts):
        raise RequestError("memberships and accounts go together", hint="Such as: fidelitas rehearse --add-member docker tomas.")
    bundles = source.bundles(subject) if root is None else [bundle_of_root(root)]
    changed = bundles if policy is None else [from_policy_file(policy, bundle) for bundle in bundles]
    before = [rights_in(bundle) for bundle in bundles]
    for what in memberships.unknown([host.facts for host in before]):
        raise RequestError(f"there is no {what} on any of the hosts")
    replays = _replays(source, changed) if policy is not None else []
    rehearsals = [rehearse(old, rights_in(new, memberships)) for old, new in zip(before, changed, strict=True)]
    sanctions = None
    if charter is not None:
        tags = source.tags_of() if root is None else {host.subject: () for host in before}
        sanctions = charter_in_use(charter, mapped, tags, before).sanctions
    _show(rehearsals, changed, policy, sanctions, replays, output)


def _replays(source: Source, changed: Sequence[Bundle]) -> list[Replay]:
    """Put every logged use of sudo to the new policies; where there are no logs there is nothing to put."""
    events: list[Event] = []
    if source.logs or any(bundle.copies for bundle in changed):
        book = source.logbook(EventFilter(kinds=frozenset({EventKind.USED, EventKind.REFUSED})), lambda record: events.append(record.event))
        for problem in (*book.gaps, *book.unread):
            say(str(problem))
    return replay(events, {bundle.subject: PolicyHistory([bundle]) for bundle in changed})


def _show(
    rehearsals: Sequence[Rehearsal],
    changed: Sequence[Bundle],
    policy: Path | None,
    charter: Sanctions | None,
    replays: Sequence[Replay],
    output: Output,
) -> None:
    errors = errors_of(rehearsals) if policy is not None else []
    wanted = {error.place.path for error in errors}
    texts = {path: decode(content) for bundle in changed for path, content in bundle.files.items() if path in wanted}
    output.report(rehearsal_report(rehearsals, replays, errors, texts, {POLICY: str(policy)}, charter))
    if errors:
        say(f"the new policy has {len(errors)} error{'s' if len(errors) > 1 else ''}; sudo would use what is left of it")
        raise SystemExit(4)
    if any(one.locked_out for one in rehearsals):
        raise SystemExit(1)
