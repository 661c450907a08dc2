"""Work lists that reviewers get and send back: CSV with a line for each item, in which they fill in what they decide."""

import csv
import io
from collections.abc import Iterable, Sequence
from datetime import datetime

from fidelitas.errors import ReadError
from fidelitas.reviews.decisions import Decision, DecisionKind, counting
from fidelitas.reviews.items import Item, Review
from fidelitas.text import escape_control

__all__ = ["COLUMNS", "how_it_is_held", "read_list", "work_list"]

COLUMNS = ("item", "mark", "holder", "person", "right", "on", "how", "last used", "note", "decision", "reason")
_DECISIONS = ", ".join(DecisionKind)
# A table program takes what begins so for a formula.
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def work_list(review: Review, items: Sequence[Item], decisions: Iterable[Decision]) -> str:
    """Return the items as CSV, with what is decided already; the columns `decision` and `reason` are to be filled in."""
    known = counting(review, decisions)
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(COLUMNS)
    for item in items:
        decision = known.get(item.number)
        row = (
            str(item.number), item.key, item.holder, ", ".join(item.persons), item.right, " ".join(item.subjects), how_it_is_held(item),
            item.last_used or "", note_on(item), decision.decision.value if decision else "", decision.reason if decision else "",
        )  # fmt: skip
        writer.writerow(map(_harmless, row))
    return out.getvalue()


def note_on(item: Item) -> str:
    """Return what a reviewer should know of an item before deciding, in words."""
    notes = [
        "" if item.granted else "obtained by a weakness, not granted",
        f"the charter: {item.sanction}" if item.sanction else "",
        f"decided in {item.carried.review}: {item.carried.decision}" if item.carried is not None else "",
        item.carried.reopened if item.carried is not None else "",
    ]
    return "; ".join(filter(None, notes))


def how_it_is_held(item: Item) -> str:
    """Return the first route of an item in words, with the place of each link."""
    links = item.holdings[0].routes[0]
    return "; ".join(f"{link.because} ({link.path}{f':{link.line}' if link.line else ''})" for link in links)


def _harmless(text: str) -> str:
    plain = escape_control(text)
    return f"'{plain}" if plain.startswith(_FORMULA) else plain


def read_list(text: str, origin: str, review: Review, reviewer: str, now: datetime) -> list[Decision]:
    """Return the decisions in a work list that came back; raises `ReadError` for the first line that is not as it should be.

    Lines without a decision are left out.  A line is refused where it is about another item than the review has under its number.
    """
    reader = csv.DictReader(io.StringIO(text.removeprefix("\ufeff")), strict=True)
    found = []
    try:
        missing = [name for name in ("item", "mark", "decision", "reason") if name not in (reader.fieldnames or ())]
        if missing:
            raise _wrong(origin, 1, f"the column {missing[0]} is missing")
        for row in reader:
            decision = _decision(row, f"{origin}:{reader.line_num}", review, reviewer, now)
            if decision is not None:
                found.append(decision)
    except csv.Error as error:
        raise _wrong(origin, reader.line_num, str(error)) from error
    twice = [one.item for number, one in enumerate(found) if any(other.item == one.item for other in found[:number])]
    if twice:
        raise ReadError(f"{origin}: item {twice[0]} is decided twice", hint="Leave one of the lines.")
    return found


def _wrong(origin: str, line: int, what: str) -> ReadError:
    return ReadError(f"{origin}:{line}: {what}", hint="Nothing was imported.")


def _decision(row: dict[str, str | None], where: str, review: Review, reviewer: str, now: datetime) -> Decision | None:
    origin, _, line = where.rpartition(":")
    stated = (row.get("decision") or "").strip().lower()
    if not stated:
        return None
    if stated not in set(DecisionKind):
        raise _wrong(origin, int(line), f'"{stated[:40]}" is not a decision; it is one of {_DECISIONS}')
    number = (row.get("item") or "").strip()
    item = review.item(int(number)) if number.isascii() and number.isdecimal() and len(number) < 10 else None
    if item is None:
        raise _wrong(origin, int(line), f'review {review.name} has no item "{number[:20]}"')
    if (row.get("mark") or "").strip().lstrip("'") != item.key:
        raise _wrong(origin, int(line), f"the mark is not that of item {item.number}: the line is of another review, or was changed")
    reason = (row.get("reason") or "").strip()
    if stated == DecisionKind.REVOKE and not reason:
        raise _wrong(origin, int(line), f"item {item.number} is to be revoked, and no reason is given")
    return Decision(item=item.number, decision=DecisionKind(stated), reason=reason, reviewer=reviewer, at=now.isoformat(timespec="seconds"))
