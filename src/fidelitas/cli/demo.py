"""``fidelitas demo``."""

import shlex
from pathlib import Path

import click

from fidelitas.audit import audit
from fidelitas.cli.output import Output, format_option, say
from fidelitas.cli.people import read_people
from fidelitas.cli.survey import show
from fidelitas.demo import REVIEW, TAGS, TAKEN, PlannedDecision, earlier_surveys, policy_commits, review_decisions, started, write_estate
from fidelitas.ledger import Ledger
from fidelitas.reviewing import ReviewBook, new_review
from fidelitas.reviews import Decision, DecisionKind, Item
from fidelitas.reviews.assignment import By, assignment
from fidelitas.sources import from_file
from fidelitas.sources.git_repository import make_repository


@click.command
@click.argument("folder", default="demo-estate", type=click.Path(file_okay=False, path_type=Path))
@click.option("--seed", type=int, default=1, show_default=True, help="Another seed gives other people in the same plot.")
@click.option("--full", is_flag=True, help="Every holding and finding, not a summary.")
@format_option
def command(folder: Path, seed: int, output: Output, *, full: bool) -> None:
    """Make the Saltmarsh Tide Observatory, a made-up estate, in FOLDER, survey it and print the audit.

    FOLDER then holds the evidence of each host, a list of the problems that were planted (truth.json), ninety days of logs, a charter, the
    repository of a policy, and a ledger with three surveys, a month apart, and a review half done, to try the other commands on.
    """
    files = write_estate(folder, seed)
    ledger = Ledger(folder / "ledger")
    bundles = [from_file(file).bundle for file in files]
    for at, earlier in earlier_surveys(bundles, seed):
        ledger.add(earlier, at, TAGS)
    survey = ledger.add(bundles, TAKEN, TAGS)
    if not make_repository(folder / "policy", policy_commits(bundles, seed)):
        say("git is not installed: the demo has no repository of its policy")
    _begin_review(ledger, folder, seed)
    show(audit(ledger.newest(survey.name)), survey.name, output, ledger, full=full)
    say(f"to ask more of the demo: export FIDELITAS_LEDGER={shlex.quote(str((folder / 'ledger').absolute()))}")


def _begin_review(ledger: Ledger, folder: Path, seed: int) -> None:
    """Begin the review of the demo, and decide what its reviewers have decided."""
    found = audit(ledger.newest(), findings=False).subjects
    about = assignment(By.TEAM, read_people(folder / "people.csv"), TAGS, lambda _: None, lambda _subject, _account: None)
    at, planned = started(TAKEN), review_decisions(seed)
    book = ReviewBook(ledger)
    review = book.start(new_review(REVIEW, ledger.named("last"), at, planned[0].reviewer, By.TEAM, found, about)).review
    chosen = [(item, one) for one in planned for item in review.items if _is_about(one, item)]
    when = at.isoformat(timespec="seconds")
    book.decide(
        REVIEW,
        [
            Decision(item=item.number, decision=DecisionKind(one.decision), reason=one.reason, reviewer=one.reviewer, at=when)
            for item, one in chosen
        ],
    )


def _is_about(planned: PlannedDecision, item: Item) -> bool:
    if planned.on_list_of:
        return item.reviewer == planned.on_list_of
    return (item.holder, item.right) == (planned.holder, planned.right) and item.subjects == (planned.subject,)
