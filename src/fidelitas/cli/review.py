"""``fidelitas review``."""

import getpass
import os
import re
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from functools import partial
from pathlib import Path

import click

from fidelitas.charter import Sanction
from fidelitas.cli.charter_file import charter_in_use, people_option
from fidelitas.cli.complete import subjects
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.names import unknown_name, unknown_subject
from fidelitas.cli.new_file import write_new_file
from fidelitas.cli.output import Output, format_option, say
from fidelitas.cli.people import read_people
from fidelitas.cli.source import Source, default_ledger, ledger_option, one_source_options, source_options
from fidelitas.errors import ReadError, RequestError
from fidelitas.ledger import Ledger
from fidelitas.reports.forms import Screen, render
from fidelitas.reports.numbers import counted
from fidelitas.reports.review import (
    actions_report,
    item_block,
    items_report,
    reviews_report,
    status_report,
    verification_report,
)
from fidelitas.reviewing import ReviewBook, items_for, new_review, reviewers
from fidelitas.reviews import Decision, DecisionKind, Item, Review, Standing, actions, is_own, read_list, work_list
from fidelitas.reviews.assignment import By, assignment
from fidelitas.rights import Holding, SubjectRights
from fidelitas.sources.given import content_given
from fidelitas.usage import Latest

_FILE = click.Path(dir_okay=False, path_type=Path)
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,63}\Z")
_DECISIONS = [kind.value for kind in DecisionKind]

_reviewer_option = click.option("--as", "reviewer", metavar="NAME", help="Who decides.  [default: who is logged in]")
_whose_option = click.option("--for", "whose", metavar="REVIEWER", help="Only the items on the work list of REVIEWER.")


@click.group
def command() -> None:
    """Review who holds what: freeze a list, have it decided, carry it out, and keep the evidence.

    \b
        fidelitas review start 2026-q4 --people people.csv --by team --out lists
        fidelitas review next 2026-q4 --for administrators
        fidelitas review actions 2026-q4
        fidelitas review close 2026-q4 --sign ~/.ssh/id_ed25519 --out 2026-q4.tar.gz
    """  # noqa: D301 Click wants the character itself


@command.command("start")
@click.argument("name")
@click.option("--by", type=click.Choice([by.value for by in By]), default="team", show_default=True, help="Whose work list an item is on.")
@people_option
@click.option("--charter", type=_FILE, metavar="FILE", help="Note on each item what this charter says of it.")
@click.option("--on", "names", multiple=True, shell_complete=subjects, metavar="SUBJECT", help="Only on this subject; repeatable.")
@click.option("--each", is_flag=True, help="An item for each subject, not for all on which a right is held alike.")
@click.option("--previous", metavar="REVIEW", help="Carry decisions over from this review.  [default: the last that was closed]")
@click.option("--out", "folder", type=click.Path(file_okay=False, path_type=Path), metavar="DIR", help="Write work lists into DIR.")
@_reviewer_option
@source_options
@format_option
def start(
    name: str,
    by: str,
    mapped: Path | None,
    charter: Path | None,
    names: tuple[str, ...],
    previous: str | None,
    folder: Path | None,
    reviewer: str | None,
    source: Source,
    output: Output,
    *,
    each: bool,
) -> None:
    """Freeze what is held now as the review NAME, the worst first, and give each item to a reviewer.

    --by team and manager are those of the person in the identity map; owner is the tag owner=NAME of the subject.

    What the last review kept and has not changed since is carried over; what has grown, or is held by another route, is to be decided
    anew.  The surveys whose evidence it cites are kept in the ledger.
    """
    if not _NAME.match(name):
        raise RequestError(f'"{name}" cannot be the name of a review', hint="Use letters, digits, dots and hyphens: 2026-q4.")
    people = read_people(mapped) if mapped is not None else ()
    if by != By.OWNER.value and not people:
        raise RequestError(f"the {by} of a person is in the identity map", hint="Name it with --people, or review --by owner.")
    chosen = _chosen(source, names)
    found = [one for one in source.audit().subjects if one.subject in chosen]
    latest = source.latest(chosen)
    about = assignment(By(by), people, source.tags_of(), _sanction(charter, mapped, source, found), partial(_last_use, latest))
    survey = source.ledger.named(source.survey or "last")
    review = new_review(name, survey, datetime.now(UTC), _who(reviewer), By(by), found, about, each=each)
    book = ReviewBook(source.ledger)
    if previous is not None:
        _named(book, previous)
    standing = book.start(review, previous)
    output.report(status_report(standing), of=found)
    if folder is not None:
        _write_lists(folder, standing)
    tell_gaps(found)


@command.command("list")
@click.argument("name", required=False)
@_whose_option
@ledger_option
@format_option
def list_command(name: str | None, whose: str | None, ledger: str | None, output: Output) -> None:
    """List the reviews of the ledger, or the items of one."""
    book = _book(ledger)
    if name is None:
        output.report(reviews_report([book.standing(each) for each in book.names()]))
        return
    standing = _named(book, name)
    output.report(items_report(standing, _items_of(standing.review, whose), whose))


@command.command("lists")
@click.argument("name")
@click.argument("folder", type=click.Path(file_okay=False, path_type=Path), metavar="DIR")
@ledger_option
def lists(name: str, folder: Path, ledger: str | None) -> None:
    """Write the work list of each reviewer of NAME into DIR, as Markdown to read and as CSV to fill in."""
    _write_lists(folder, _named(_book(ledger), name))


@command.command("next")
@click.argument("name")
@_whose_option
@_reviewer_option
@ledger_option
def next_command(name: str, whose: str | None, reviewer: str | None, ledger: str | None) -> None:
    """Walk through what is undecided of the review NAME: keep, revoke, ask or skip, each with a reason."""
    book = _book(ledger)
    standing = _named(book, name)
    if standing.closed is not None:
        raise RequestError(f'review "{name}" was closed at {standing.closed}')
    mine = {item.number for item in _items_of(standing.review, whose)}
    decided = 0
    for item in (item for item in standing.undecided if item.number in mine):
        Output(paged=False).report(item_block(item, standing.counting.get(item.number), len(standing.review.items)))
        answer, reason = _asked()
        if answer == "end":
            break
        if answer != "skip":
            _decide(book, name, item, answer, reason, _who(reviewer))
            decided += 1
    left = [item for item in book.standing(name).undecided if item.number in mine]
    say(f"{counted(decided, 'item')} decided; {len(left)} left")


@command.command("decide")
@click.argument("name")
@click.argument("item", type=int)
@click.argument("decision", type=click.Choice(_DECISIONS))
@click.option("--reason", default="", help="Why.")
@_reviewer_option
@ledger_option
def decide(name: str, item: int, decision: str, reason: str, reviewer: str | None, ledger: str | None) -> None:
    """Decide about one ITEM of the review NAME: keep, revoke, or ask."""
    book = _book(ledger)
    found = _named(book, name).review.item(item)
    if found is None:
        raise RequestError(f"review {name} has no item {item}", hint=f'"fidelitas review list {name}" shows them.')
    if decision == DecisionKind.REVOKE.value and not reason:
        raise RequestError("a revocation needs a reason", hint="Give it with --reason.")
    _decide(book, name, found, decision, reason, _who(reviewer))


@command.command("import")
@click.argument("name")
@click.argument("file", type=_FILE)
@_reviewer_option
@ledger_option
def import_command(name: str, file: Path, reviewer: str | None, ledger: str | None) -> None:
    """Take the decisions of a work list FILE (CSV) that came back; all of them or, where a line is wrong, none."""
    book = _book(ledger)
    standing = _named(book, name)
    try:
        text = content_given(file, "work list").decode()
    except UnicodeDecodeError as error:
        raise ReadError(f'could not read work list "{file}": {error}') from error
    found = read_list(text, str(file), standing.review, _who(reviewer), datetime.now(UTC))
    added = book.decide(name, found)
    own = [str(one.item) for one in found if (item := standing.review.item(one.item)) is not None and is_own(item, one.reviewer)]
    if own:
        say(f"{_who(reviewer)} decides about their own rights, which the review shows: items {', '.join(own)}")
    say(f"{counted(added, 'decision')} imported, {len(found) - added} were there already")


@command.command("status")
@click.argument("name")
@one_source_options
@format_option
def status(name: str, source: Source, output: Output) -> None:
    """Show how far the review NAME is, who decided about their own rights, and which revocations the newest evidence shows as done.

    Exit status: 1 where something is undecided, or a revocation is not done.
    """
    standing = _with_revocations(source, name)
    output.report(status_report(standing))
    if standing.undecided or standing.left:
        raise SystemExit(1)


@command.command("actions")
@click.argument("name")
@one_source_options
@format_option
def actions_command(name: str, source: Source, output: Output) -> None:
    """Print the commands and edits that carry out the revocations of NAME that are not done yet; nothing is run.

    Lesser rights come first, the last account that has root on a host comes last.  Exit status: 1 where a host would have none left.
    """
    standing = _with_revocations(source, name)
    steps = actions(standing.left, {one.subject: one for one in source.audit().subjects})
    output.report(actions_report(standing, steps))
    if any(step.last for step in steps):
        raise SystemExit(1)


@command.command("close")
@click.argument("name")
@click.option("--out", "file", type=_FILE, required=True, metavar="FILE", help="Write the evidence pack to FILE.")
@click.option("--sign", "key", type=_FILE, metavar="KEY", help="Sign it with this SSH key: a private key, or a public one of the agent.")
@_reviewer_option
@ledger_option
def close(name: str, file: Path, key: Path | None, reviewer: str | None, ledger: str | None) -> None:
    """Close the review NAME and write its evidence pack: holdings, decisions, cited evidence, gaps, and a digest of each.

    Everything must be decided.  docs/access-review.md describes the pack.
    """
    from fidelitas.reviews.pack import MANIFEST, SIGNATURE, archive_of  # noqa: PLC0415 needed here alone
    from fidelitas.sources.signatures import sign  # noqa: PLC0415

    book = _book(ledger)
    standing = _named(book, name)
    left = len(standing.undecided)
    if left:
        raise RequestError(f"{counted(left, 'item')} of review {name} are undecided", hint=f'Decide them: "fidelitas review next {name}".')
    if file.exists():
        raise RequestError(f'"{file}" exists', hint="Name another file with --out.")
    closed = datetime.fromisoformat(standing.closed) if standing.closed else datetime.now(UTC).replace(microsecond=0)
    files = book.pack(standing, closed, _who(reviewer))
    if key is not None:
        files[SIGNATURE] = sign(files[MANIFEST], key)
    write_new_file(file, archive_of(files))
    book.close(name, closed)
    signed = f', signed with "{key}"' if key is not None else "; it is not signed (--sign KEY)"
    say(f'review {name} is closed; wrote its evidence pack to "{file}"{signed}')


@command.command("verify")
@click.argument("file", type=_FILE)
@click.option("--signers", type=_FILE, metavar="FILE", help="Check the signature by this file of allowed signers (ssh-keygen(1)).")
@click.option("--signer", metavar="NAME", help="Who must have signed.  [default: any name that FILE has for the key]")
@format_option
def verify(file: Path, signers: Path | None, signer: str | None, output: Output) -> None:
    """Check an evidence pack, without a ledger: its signature, the digest of every file, and every cited line.

    Exit status: 1 where something is wrong with it, 3 where no signature was checked.
    """
    from fidelitas.reviews.verification import faults_of, read_pack  # noqa: PLC0415 needed here alone
    from fidelitas.sources.signatures import check_signature  # noqa: PLC0415

    pack = read_pack(file)
    by, why = (None, "") if signers is None else check_signature(pack.manifest, pack.signature, signers, signer)
    faults = [*([why] if why else []), *faults_of(pack)]
    output.report(verification_report(pack.head, by, pack.citations, faults))
    if faults:
        raise SystemExit(1)
    if by is None:
        say("no signature was checked: name the allowed signers with --signers")
        raise SystemExit(3)


# -- what the commands share ---------------------------------------------------------------------------------------------------------


def _book(ledger: str | None) -> ReviewBook:
    return ReviewBook(Ledger(ledger or default_ledger()))


def _named(book: ReviewBook, name: str) -> Standing:
    """Return a review by its name; refuse one that is not there."""
    names = book.names()
    if name not in names:
        raise unknown_name("there is no review", name, names)
    return book.standing(name)


def _with_revocations(source: Source, name: str) -> Standing:
    book = ReviewBook(source.ledger)
    standing = _named(book, name)
    return book.with_revocations(standing, source.audit().subjects) if standing.revoked else standing


def _chosen(source: Source, names: Sequence[str]) -> set[str]:
    known = source.chosen(source.ledger.newest(source.survey))
    for name in names:
        if name not in known:
            raise unknown_subject(name, known)
    return set(names or known)


def _last_use(latest: Mapping[str, Latest], subject: str, account: str) -> str | None:
    """Return the day on which an account used privilege last on a subject, by its logs."""
    at = latest[subject].uses.get(account) if subject in latest else None
    return None if at is None else at.date().isoformat()


def _sanction(charter: Path | None, mapped: Path | None, source: Source, found: Sequence[SubjectRights]) -> Callable[[Holding], str | None]:
    """Return what knows what a charter says of a holding; nothing without one."""
    if charter is None:
        return lambda _: None
    sanctions = charter_in_use(charter, mapped, source.tags_of(), found, whole=False).sanctions
    return lambda holding: Sanction.YES.value if sanctions.allows(holding) else sanctions.judge(holding).sanction.value


def _items_of(review: Review, whose: str | None) -> list[Item]:
    known = reviewers(review.items)
    if whose is not None and whose not in known:
        raise unknown_name(f"review {review.name} has no work list for", whose, known)
    return items_for(review, whose)


def _asked() -> tuple[str, str]:
    """Return what a reviewer answers, and why; to end where there is no more input."""
    try:
        answer = click.prompt(
            "  keep, revoke, ask, skip or end", type=click.Choice([*_DECISIONS, "skip", "end"]), default="skip", show_choices=False
        )
        if answer in ("skip", "end"):
            return answer, ""
        return answer, click.prompt("  reason", default="" if answer == "keep" else None, show_default=False)
    except click.Abort:
        return "end", ""


def _decide(book: ReviewBook, name: str, item: Item, decision: str, reason: str, reviewer: str) -> None:
    book.decide(name, [Decision(item=item.number, decision=DecisionKind(decision), reason=reason, reviewer=reviewer, at=_now())])
    if is_own(item, reviewer):
        say(f"item {item.number}: {reviewer} decides about their own rights, which the review shows")


def _who(reviewer: str | None) -> str:
    """Return who decides: who is named, else who is logged in, also behind sudo."""
    return reviewer or os.environ.get("SUDO_USER") or getpass.getuser()


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds")


def _write_lists(folder: Path, standing: Standing) -> None:
    review = standing.review
    whose = reviewers(review.items)
    for reviewer in whose:
        items = items_for(review, reviewer)
        stem = f"{review.name}-{re.sub(r'[^A-Za-z0-9._-]+', '_', reviewer)}"
        text = f"# Review {review.name}: {reviewer}\n\n" + "".join(render(items_report(standing, items, reviewer), "markdown", Screen()))
        for name, content in ((f"{stem}.md", text), (f"{stem}.csv", work_list(review, items, standing.decisions))):
            write_new_file(folder / name, content.encode("utf-8", "backslashreplace"))
    say(f'wrote {counted(len(whose), "work list")} into "{folder}"')
