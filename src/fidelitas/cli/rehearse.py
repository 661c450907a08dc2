"""``fidelitas rehearse``."""

from collections.abc import Sequence
from pathlib import Path
from typing import cast

import click

from fidelitas.audit import Altered, EvidenceSource, InMemory
from fidelitas.charter import Sanctions
from fidelitas.cli.charter_file import charter_in_use, people_option
from fidelitas.cli.complete import subjects
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.output import Output, format_option, say
from fidelitas.cli.source import Source, bundle_of_root, log_option, one_source_options
from fidelitas.errors import RequestError
from fidelitas.evidence import Bundle
from fidelitas.facts import Event, EventKind
from fidelitas.languages.evidence import HostEvidence
from fidelitas.logbook import EventFilter
from fidelitas.memberships import AmbiguousNameError, Memberships
from fidelitas.platforms import is_host
from fidelitas.rehearsal import Rehearsed, errors_of, rehearse_change
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
@click.option("--on", "subject", shell_complete=subjects, metavar="SUBJECT", help="Only on this subject, not on every one of the ledger.")
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
        fidelitas rehearse --add-member Administrators 'SALTMARSH\\tomas' --on skua

    NEW replaces the main policy; what it includes is the host's own.  Every use of sudo in the logs, those of the ledger
    or of --log, is replayed against it, and what it would have refused is listed.

    A GROUP is one of hosts, a local group of Windows machines, a group of a directory, or a role of a database server: the change is
    rehearsed wherever both GROUP and ACCOUNT are known, and the rights that follow are shown on every subject.  With --on, a group that the
    subject itself does not have is one of a directory.  The commands that would make the change are shown, and not run.

    Elevated rights come first.  A warning is shown if nobody who can log in could become root any more.

    Exit status: 0 no errors; 1 a lock-out; 4 the new policy has errors, or evidence could not be read.
    """  # noqa: D301 Click wants the character itself
    wanted = Memberships(accounts=accounts, into=into, out_of=out_of, like=like)
    if policy is None and not wanted:
        raise RequestError("nothing to rehearse", hint="Name a new policy with --policy, or a membership with --add-member.")
    if bool(wanted) != bool(accounts):
        raise RequestError("memberships and accounts go together", hint="Such as: fidelitas rehearse --add-member docker tomas.")
    evidence: EvidenceSource = source.evidence_with(subject) if root is None else InMemory([bundle_of_root(root)])
    # With --on the policy of no other host changes: what it reaches from there, by keys for one, stays as it is.
    changed = Altered(evidence, lambda one: _with_policy(policy, one) if subject in (None, one.subject) else one)
    try:
        found = rehearse_change(evidence, changed, wanted, subject)
    except AmbiguousNameError as error:
        raise RequestError(str(error), hint=f"Use one of: {', '.join(error.names[:6])}.") from error
    for what in found.plan.unknown:
        raise RequestError(f"there is no {what} {f'on {subject} or in a directory' if subject else 'in evidence'}")
    replays = _replays(source, changed, found) if policy is not None else []
    _show(found, changed, policy, _sanctions(charter, mapped, source, root, found, whole=subject is None), replays, output)


def _with_policy(policy: Path | None, evidence: HostEvidence) -> HostEvidence:
    if policy is None or not is_host(evidence.platform):
        return evidence
    return from_policy_file(policy, cast(Bundle, evidence))


def _sanctions(
    charter: Path | None, mapped: Path | None, source: Source, root: Path | None, found: Rehearsed, *, whole: bool
) -> Sanctions | None:
    if charter is None:
        return None
    tags = source.tags_of() if root is None else {one.subject: () for one in found.subjects}
    return charter_in_use(charter, mapped, tags, found.subjects, whole=whole).sanctions


def _replays(source: Source, changed: Altered, found: Rehearsed) -> list[Replay]:
    """Put every logged use of sudo to the new policies; where there are no logs there is nothing to put."""
    events: list[Event] = []
    bundles = _hosts(changed, found)
    if source.logs or any(bundle.copies for bundle in bundles):
        book = source.logbook(EventFilter(kinds=frozenset({EventKind.USED, EventKind.REFUSED})), lambda record: events.append(record.event))
        for problem in (*book.gaps, *book.unread):
            say(str(problem))
    takings = source.takings()
    return replay(events, {bundle.subject: PolicyHistory([bundle], takings=takings) for bundle in bundles})


def _hosts(changed: Altered, found: Rehearsed) -> list[Bundle]:
    return [cast(Bundle, changed.evidence(one.subject)) for one in found.subjects if is_host(one.platform)]


def _show(
    found: Rehearsed, changed: Altered, policy: Path | None, charter: Sanctions | None, replays: Sequence[Replay], output: Output
) -> None:
    errors = errors_of(found.rehearsals) if policy is not None else []
    wanted = {error.place.path for error in errors}
    bundles = _hosts(changed, found) if wanted else []
    texts = {path: decode(content) for bundle in bundles for path, content in bundle.files.items() if path in wanted}
    output.report(rehearsal_report(found, replays, errors, texts, {POLICY: str(policy)}, charter), of=found.subjects)
    tell_gaps(found.subjects)
    if errors:
        say(f"the new policy has {len(errors)} error{'s' if len(errors) > 1 else ''}; sudo would use what is left of it")
        raise SystemExit(4)
    if any(one.locked_out for one in found.rehearsals):
        raise SystemExit(1)
