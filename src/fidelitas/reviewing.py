"""Reviews and the ledger: begun from the newest evidence, decided, held against later surveys, closed with an evidence pack.

Touches the ledger; what a review says is the business of `reviews`.
"""

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from datetime import datetime

import msgspec

from fidelitas import __version__
from fidelitas.audit import audit
from fidelitas.errors import FidelitasError, LedgerError, RequestError
from fidelitas.ledger import Ledger
from fidelitas.ledger.reviews import Reviews, StoredDecision
from fidelitas.reviews import About, Decision, DecisionKind, Item, Review, Standing, carried_over, freeze, revocations
from fidelitas.reviews.assignment import By
from fidelitas.reviews.pack import pack_files
from fidelitas.rights import Holding, SubjectRights

__all__ = ["ReviewBook", "items_for", "new_review", "reviewers"]


def new_review(
    name: str,
    survey: str,
    started: datetime,
    started_by: str,
    by: By,
    subjects: Sequence[SubjectRights],
    about: Callable[[Holding], About],
    *,
    each: bool = False,
) -> Review:
    """Return a review of what is held on some subjects now; `about` says of a holding whose it is and who decides."""
    return Review(
        name=name,
        survey=survey,
        started=started.isoformat(timespec="seconds"),
        started_by=started_by,
        by=by.value,
        scope=tuple(sorted(one.subject for one in subjects)),
        version=__version__,
        items=tuple(freeze((holding for one in subjects for holding in one.own_holdings), about, each=each)),
    )


class ReviewBook:
    """The reviews of a ledger."""

    def __init__(self, ledger: Ledger) -> None:
        self._ledger, self._store = ledger, Reviews(ledger)

    def names(self) -> list[str]:
        """Return the names of all reviews, in the order in which they began."""
        return self._store.names()

    def standing(self, name: str) -> Standing:
        """Return a review with its decisions; raises `RequestError` where there is none of the name."""
        found = self._store.get(name)
        if found is None:
            raise RequestError(f'there is no review "{name}" in ledger "{self._ledger}"')
        try:
            review = msgspec.json.decode(found.content, type=Review)
            decisions = [
                Decision(item=one.item, decision=DecisionKind(one.decision), reason=one.reason, reviewer=one.reviewer, at=one.at)
                for one in self._store.decisions(name)
            ]
        except (msgspec.MsgspecError, ValueError) as error:
            raise LedgerError(f'review "{name}" is of a form that this version does not know: {error}') from error
        return Standing(review, decisions, found.closed)

    def start(self, review: Review, previous: str | None = None) -> Standing:
        """Keep a review with what is carried over from an earlier one, the last that was closed unless it is named; return it."""
        earlier = self.standing(previous) if previous is not None else self._last_closed()
        items = review.items if earlier is None else tuple(carried_over(review.items, earlier.review, earlier.decisions))
        whole = msgspec.structs.replace(review, items=items)
        newest = self._newest_surveys()
        surveys = {newest[subject] for subject in whole.scope if subject in newest} | {whole.survey}
        self._store.start(whole.name, msgspec.json.encode(whole), surveys)
        return Standing(whole)

    def decide(self, name: str, decisions: Iterable[Decision]) -> int:
        """Add decisions, but for those that say what counts already; return how many were added."""
        known = self.standing(name).counting
        new = [one for one in decisions if one.item not in known or _said(known[one.item]) != _said(one)]
        self._store.decide(name, [_stored(one) for one in new])
        return len(new)

    def with_revocations(self, standing: Standing, subjects: Iterable[SubjectRights]) -> Standing:
        """Return a review with what the newest evidence shows of its revocations."""
        found = {one.subject: one for one in subjects}
        newer = {subject: survey > standing.review.survey for subject, survey in self._newest_surveys().items()}
        return Standing(standing.review, standing.decisions, standing.closed, revocations(standing.revoked, found, newer))

    def unfinished(self, subjects: Sequence[SubjectRights]) -> list[Standing]:
        """Return the reviews of which something is to be decided or to be carried out still, with what the newest evidence shows."""
        found = []
        for name in self.names():
            try:
                standing = self.with_revocations(self.standing(name), subjects)
            except FidelitasError:  # "review list" says what is wrong with it
                continue
            if (standing.undecided and standing.closed is None) or standing.left:
                found.append(standing)
        return found

    def progress(self, subjects: Sequence[SubjectRights]) -> list[str]:
        """Return a line for each review with revocations on some subjects that the newest evidence is about, for the end of a survey."""
        lines = []
        names = {one.subject for one in subjects}
        for name in self.names():
            try:
                standing = self.standing(name)
            except FidelitasError:  # "review list" says what is wrong with it
                continue
            looked = (
                [one for one in self.with_revocations(standing, subjects).revocations if one.subject in names] if standing.revoked else []
            )
            if looked:
                done = sum(one.outcome.value == "done" for one in looked)
                lines.append(f"review {name}: {done} of {len(looked)} revocation{'s' * (len(looked) != 1)} on these subjects done")
        return lines

    def pack(self, standing: Standing, at: datetime, by: str) -> dict[str, bytes]:
        """Return the files of a review's evidence pack: the evidence is that of its survey."""
        then = self._ledger.as_of(standing.review.survey)
        scope = [name for name in then.names if name in standing.review.scope]
        cited = {link.subject for item in standing.review.items for held in item.holdings for route in held.routes for link in route}
        evidence = {name: then.evidence(name) for name in then.names if name in cited}
        gaps = audit(then, scope, findings=False).gaps
        return pack_files(standing.review, standing.decisions, gaps, evidence, at, by)

    def close(self, name: str, at: datetime) -> None:
        """Mark a review as closed: nothing can be decided any more."""
        self._store.close(name, at.isoformat(timespec="seconds"))

    def _last_closed(self) -> Standing | None:
        closed = [one for one in map(self.standing, self.names()) if one.closed is not None]
        return max(closed, key=lambda one: one.closed or "") if closed else None

    def _newest_surveys(self) -> Mapping[str, str]:
        """Return the name of the last survey that has each subject."""
        return {subject: survey.name for survey in self._ledger.surveys() for subject in survey.subjects}


def _said(one: Decision) -> tuple[DecisionKind, str]:
    return one.decision, one.reason


def _stored(one: Decision) -> StoredDecision:
    return StoredDecision(item=one.item, decision=one.decision.value, reason=one.reason, reviewer=one.reviewer, at=one.at)


def items_for(review: Review, reviewer: str | None) -> list[Item]:
    """Return the items on a reviewer's work list, or all."""
    return [item for item in review.items if reviewer in (None, item.reviewer)]


def reviewers(items: Collection[Item]) -> list[str]:
    """Return whose work lists some items are on."""
    return sorted({item.reviewer for item in items})
