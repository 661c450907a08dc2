"""Decisions of a review: to keep, to revoke, to ask; which counts, what is left, and who decided about their own rights."""

from collections.abc import Iterable, Mapping, Sequence
from enum import StrEnum

import msgspec

from fidelitas.reviews.items import Carried, Item, Review, by_holder_and_right

__all__ = ["Decision", "DecisionKind", "carried_over", "counting", "is_own", "undecided"]


class DecisionKind(StrEnum):
    """What a reviewer can decide."""

    KEEP = "keep"
    REVOKE = "revoke"
    ASK = "ask"  # not decided: someone has to answer a question first


class Decision(msgspec.Struct, frozen=True, kw_only=True):
    """What someone decided about an item, why, and when (ISO 8601, UTC); a later one takes the place of an earlier one."""

    item: int
    decision: DecisionKind
    reason: str
    reviewer: str
    at: str
    carried_from: str | None = None  # the earlier review that it is taken over from


def counting(review: Review, decisions: Iterable[Decision]) -> dict[int, Decision]:
    """Return the decision that counts for each item that has one, by the item's number: the last, else what was carried over."""
    found = {
        item.number: Decision(
            item=item.number,
            decision=DecisionKind(item.carried.decision),
            reason=item.carried.reason,
            reviewer=item.carried.reviewer,
            at=item.carried.at,
            carried_from=item.carried.review,
        )
        for item in review.items
        if item.carried is not None and not item.carried.reopened
    }
    return {**found, **{one.item: one for one in decisions}}


def undecided(review: Review, decisions: Iterable[Decision], reviewer: str | None = None) -> list[Item]:
    """Return the items that have to be decided still, of all or of one reviewer: without a decision, or with a question."""
    known = counting(review, decisions)
    left = [item for item in review.items if item.number not in known or known[item.number].decision is DecisionKind.ASK]
    return [item for item in left if reviewer is None or item.reviewer == reviewer]


def is_own(item: Item, reviewer: str) -> bool:
    """Return whether a reviewer decides about rights of their own: by their name, or that of the account."""
    names = {name.casefold() for name in (item.holder, *item.persons)}
    return reviewer.casefold() in names


def carried_over(items: Sequence[Item], earlier: Review, decisions: Iterable[Decision]) -> list[Item]:
    """Return the items with what an earlier review decided of them: it counts for what was kept and has not changed since."""
    known = counting(earlier, decisions)
    before = by_holder_and_right(earlier.items)
    return [_carried(item, before.get((item.holder, item.right), ()), earlier.name, known) for item in items]


def _carried(item: Item, before: Sequence[Item], name: str, known: Mapping[int, Decision]) -> Item:
    decided = [(old, known[old.number]) for old in before if old.number in known]
    old, decision = next(iter(decided), (None, None))
    if old is None or decision is None:
        return item
    reopened = _why_reopened(item, decided)
    carried = Carried(
        review=decision.carried_from or name,
        decision=decision.decision.value,
        reason=decision.reason,
        reviewer=decision.reviewer,
        at=decision.at,
        reopened=reopened,
    )
    return msgspec.structs.replace(item, carried=carried)


def _why_reopened(item: Item, decided: Sequence[tuple[Item, Decision]]) -> str:
    """Return why an item has to be decided anew, or nothing."""
    if any(decision.decision is DecisionKind.REVOKE for _, decision in decided):
        return "was to be revoked and is still held"
    if any(decision.decision is DecisionKind.ASK for _, decision in decided):
        return "a question was left open"
    states = {one.subject: one.state for old, _ in decided for one in old.holdings}
    new = [one.subject for one in item.holdings if one.subject not in states]
    if new:
        return f"is now held on {', '.join(new[:3])}{f' and {len(new) - 3} more' if len(new) > 3 else ''} as well"
    changed = [one.subject for one in item.holdings if states[one.subject] != one.state]
    if changed:
        return f"the route changed on {', '.join(changed[:3])}{f' and {len(changed) - 3} more' if len(changed) > 3 else ''}"
    return ""
