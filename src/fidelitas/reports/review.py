"""Reviews: what is to be decided, how far it is, what carries out revocations, and whether a pack is what it says."""

import shlex
from collections.abc import Mapping, Sequence
from typing import Any

from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.numbers import counted, listed
from fidelitas.reports.report import Part, Report
from fidelitas.reports.table import Table
from fidelitas.reviews import Action, Decision, DecisionKind, Item, Outcome, Revocation, Standing, how_it_is_held, is_own, note_on

__all__ = ["actions_report", "item_block", "items_report", "reviews_report", "status_report", "verification_report"]


def reviews_report(standings: Sequence[Standing]) -> Report:
    """Return all reviews of a ledger."""
    rows = tuple(
        (
            one.review.name,
            one.review.started[:10],
            str(len(one.review.items)),
            str(len(one.review.items) - len(one.counting)),
            one.closed[:10] if one.closed else "open",
            one.review.survey,
        )
        for one in standings
    )
    table = Table(columns=("review", "started", "items", "undecided", "closed", "survey"), rows=rows, empty="The ledger has no review yet.")
    return Report(
        parts=lambda: [table],
        document=lambda: {"schema": "fidelitas/reviews/1", "reviews": [_head(one) for one in standings]},
    )


def _head(one: Standing) -> dict[str, Any]:
    return {
        "name": one.review.name,
        "survey": one.review.survey,
        "started": one.review.started,
        "started_by": one.review.started_by,
        "by": one.review.by,
        "closed": one.closed,
        "items": len(one.review.items),
        "undecided": len(one.review.items) - len(one.counting),
    }


# -- what is to be decided -----------------------------------------------------------------------------------------------------------


def items_report(one: Standing, items: Sequence[Item], reviewer: str | None) -> Report:
    """Return items of a review, the worst first."""
    left = sum(item.number not in one.counting for item in items)
    whose = f" for {reviewer}" if reviewer else ""
    return Report(
        answer=lambda: [f"review {one.review.name}{whose}: {counted(len(items), 'item')}, {left} undecided"],
        parts=lambda: [_items_table(one, items)],
        rows=lambda: [_rows(one, items)],
        onward=lambda: [f"fidelitas review next {shlex.quote(one.review.name)}"] if left else [],
        document=lambda: _document(one, items),
    )


def _items_table(one: Standing, items: Sequence[Item]) -> Table:
    """Return a row for each item; whose list it is on only where that is not the same for all."""
    decisions, lists = one.counting, {item.reviewer for item in items}
    columns = ("item", "holder", "right", "on", "how", "last used", "decision", "note", *(("reviewer",) if len(lists) > 1 else ()))
    rows = tuple(
        (
            str(item.number),
            _who(item),
            item.right,
            listed(item.subjects, 3, "subject"),
            _in_brief(item),
            item.last_used or "",
            _decision(decisions.get(item.number)),
            note_on(item),
            *((item.reviewer,) if len(lists) > 1 else ()),
        )
        for item in items
    )
    folding = frozenset({"holder", "right", "how", "note", "decision"})
    return Table(columns=columns, rows=rows, may_fold=folding, least=("note",), empty="Nothing is to be decided.")


def _rows(one: Standing, items: Sequence[Item]) -> Table:
    """Return a row for each item with all that is known of it."""
    document = [_item_document(one, item) for item in items]
    columns = tuple(document[0]) if document else ()
    return Table(columns=columns, rows=tuple(tuple(map(_cell, row.values())) for row in document), may_fold=frozenset(columns))


def _cell(value: Any) -> str:
    return " ".join(value) if isinstance(value, list) else "" if value is None else str(value)


def _in_brief(item: Item) -> str:
    """Return the first route as what it goes by, with the place that decides."""
    links = item.holdings[0].routes[0]
    last = links[-1]
    through = [*(link.target for link in links[:-1]), last.mechanism]
    return f"{' → '.join(through)} ({last.path}{f':{last.line}' if last.line else ''})"


def _who(item: Item) -> str:
    persons = ", ".join(item.persons)
    return f"{item.holder} ({persons})" if persons and persons != item.holder else item.holder


def _decision(known: Decision | None) -> str:
    if known is None:
        return ""
    source = f", in {known.carried_from}" if known.carried_from else ""
    return f"{known.decision.value} by {known.reviewer}{source}" + (f": {known.reason}" if known.reason else "")


def item_block(item: Item, known: Decision | None, of: int) -> Report:
    """Return one item with every route on the first subject, for a reviewer who decides about it."""
    rows = [Row(f"on {listed(item.subjects, 8, 'subject')}")]
    holding = item.holdings[0]
    for number, route in enumerate(holding.routes, 1):
        if len(holding.routes) > 1:
            rows.append(Row(f"route {number}", style="dim"))
        for link in route:
            place = f"{link.subject}:{link.path}" + (f":{link.line}" if link.line else "")
            rows.append(Row(f"{link.source} {link.because}    {place}", indent=4))
            if link.quote:
                rows.append(Row(" ".join(link.quote.split()), indent=8, style="dim"))
    if holding.routes_not_shown:
        rows.append(Row(f"and {counted(holding.routes_not_shown, 'further route')}"))
    notes = [note_on(item), f"last used {item.last_used}" if item.last_used else "", f"decided: {_decision(known)}" if known else ""]
    rows += [Row(note) for note in notes if note]
    block = Block(f"{item.number} of {of}: {_who(item)} has {item.right}", tuple(rows))
    return Report(parts=lambda: [block], document=dict)


def _document(one: Standing, items: Sequence[Item]) -> dict[str, Any]:
    return {"schema": "fidelitas/review/1", **_head(one), "list": [_item_document(one, item) for item in items]}


def _item_document(one: Standing, item: Item) -> dict[str, Any]:
    known = one.counting.get(item.number)
    return {
        "item": item.number,
        "mark": item.key,
        "holder": item.holder,
        "holder_kind": item.holder_kind,
        "persons": list(item.persons),
        "right": item.right,
        "on": list(item.subjects),
        "granted": item.granted,
        "how": how_it_is_held(item),
        "sanction": item.sanction,
        "last_used": item.last_used,
        "reviewer": item.reviewer,
        "reopened": (item.carried.reopened or None) if item.carried is not None else None,
        "decision": known.decision if known else None,
        "reason": known.reason if known else None,
        "decided_by": known.reviewer if known else None,
        "decided_at": known.at if known else None,
        "carried_from": known.carried_from if known else None,
        "about_own_rights": known is not None and is_own(item, known.reviewer),
    }


# -- how far it is -------------------------------------------------------------------------------------------------------------------


def status_report(one: Standing) -> Report:
    """Return how far a review is, for each reviewer; who decided about their own rights; what became of revocations."""
    return Report(
        answer=lambda: _status(one),
        parts=lambda: _status_parts(one),
        rows=lambda: [_reviewers_table(one), *([_revocations_table(one.revocations)] if one.revocations else [])],
        document=lambda: {
            **_document(one, one.review.items),
            "revocations": [
                {
                    "item": each.item.number,
                    "holder": each.item.holder,
                    "right": each.item.right,
                    "on": each.subject,
                    "outcome": each.outcome,
                }
                for each in one.revocations
            ],
        },
    )


def _status(one: Standing) -> list[str]:
    items = one.review.items
    left = len(items) - len(one.counting)
    kinds = {kind: one.number_of(kind, items) for kind in DecisionKind}
    carried = sum(known.carried_from is not None for known in one.counting.values())
    state = f"closed {one.closed[:10]}" if one.closed else f"open since {one.review.started[:10]}"
    decided = f"{kinds[DecisionKind.KEEP]} to keep ({carried} as decided before), {kinds[DecisionKind.REVOKE]} to revoke"
    asked = f"{kinds[DecisionKind.ASK]} to ask about"
    lines = [f"review {one.review.name}, {state}: of {counted(len(items), 'item')} {left} undecided, {decided}, {asked}"]
    if one.revocations:
        done = sum(each.outcome is Outcome.DONE for each in one.revocations)
        lines.append(f"{done} of {counted(len(one.revocations), 'revocation')} done, according to the newest evidence")
    return lines


def _status_parts(one: Standing) -> list[Part]:
    parts: list[Part] = [_reviewers_table(one)]
    own = [item for item in one.review.items if (known := one.counting.get(item.number)) is not None and is_own(item, known.reviewer)]
    reopened = [item for item in one.review.items if item.carried is not None and item.carried.reopened]
    for title, table in (
        ("Decided about their own rights", _own_table(one, own) if own else None),
        ("Reopened since the last review", _reopened_table(reopened) if reopened else None),
        ("Revocations", _revocations_table(one.revocations) if one.revocations else None),
    ):
        if table is not None:
            parts += ["\n", f"{title}\n", table]
    return parts


def _reviewers_table(one: Standing) -> Table:
    found: dict[str, list[Item]] = {}
    for item in one.review.items:
        found.setdefault(item.reviewer, []).append(item)
    rows = tuple(
        (
            reviewer,
            str(len(items)),
            str(sum(item.number not in one.counting for item in items)),
            *(str(one.number_of(kind, items)) for kind in DecisionKind),
        )
        for reviewer, items in sorted(found.items())
    )
    return Table(columns=("reviewer", "items", "undecided", "keep", "revoke", "ask"), rows=rows, empty="Nothing is to be decided.")


def _own_table(one: Standing, items: Sequence[Item]) -> Table:
    decisions = one.counting
    rows = tuple(
        (str(item.number), _who(item), item.right, listed(item.subjects, 3, "subject"), _decision(decisions.get(item.number)))
        for item in items
    )
    return Table(columns=("item", "holder", "right", "on", "decision"), rows=rows, may_fold=frozenset({"holder", "right", "decision"}))


def _reopened_table(items: Sequence[Item]) -> Table:
    rows = tuple((str(item.number), _who(item), item.right, item.carried.reopened if item.carried else "") for item in items)
    return Table(columns=("item", "holder", "right", "why"), rows=rows, may_fold=frozenset({"holder", "right", "why"}))


def _revocations_table(found: Sequence[Revocation]) -> Table:
    rows = tuple((str(one.item.number), _who(one.item), one.item.right, one.subject, one.outcome.value) for one in found)
    return Table(columns=("item", "holder", "right", "on", "state"), rows=rows, may_fold=frozenset({"holder", "right"}))


# -- what carries it out -------------------------------------------------------------------------------------------------------------


def actions_report(one: Standing, steps: Sequence[Action]) -> Report:
    """Return the steps that carry out revocations, in their order; none of them is run."""
    left = len(one.left)
    locked = sorted({each.step.subject for each in steps if each.last})
    return Report(
        answer=lambda: [
            f"review {one.review.name}: {counted(left, 'revocation')} left, {counted(len(steps), 'step')}; nothing is run",
            *([f"LOCK-OUT on {', '.join(locked)}: nobody who can log in would be root; these steps come last"] if locked else []),
        ],
        parts=lambda: _action_blocks(steps),
        rows=lambda: [_actions_table(steps)],
        document=lambda: {
            "schema": "fidelitas/review-actions/1",
            "review": one.review.name,
            "steps": [
                {
                    "on": each.step.subject,
                    "what": each.step.what,
                    "command": each.step.command,
                    "place": each.step.place.in_file() if each.step.place is not None else None,
                    "items": list(each.items),
                    "locks_out": each.last,
                }
                for each in steps
            ],
        },
    )


def _action_blocks(steps: Sequence[Action]) -> list[Part]:
    blocks: list[Part] = []
    groups: dict[tuple[bool, str], list[Action]] = {}
    for each in steps:
        groups.setdefault((each.last, each.step.subject), []).append(each)
    for (last, subject), some in groups.items():
        rows = []
        for each in some:
            items = ", ".join(map(str, each.items))
            rows.append(
                Row(f"# {each.step.what}  (item {items}{f'; {each.step.place.in_file()}' if each.step.place else ''})", style="dim")
            )
            rows.append(Row(each.step.command))
        title = f"{subject}: LOCK-OUT, give root to someone else first" if last else subject
        blocks.append(Block(title, tuple(rows), style="bold red" if last else "bold"))
    return blocks


def _actions_table(steps: Sequence[Action]) -> Table:
    rows = tuple(
        (each.step.subject, each.step.what, each.step.command, " ".join(map(str, each.items)), "yes" if each.last else "") for each in steps
    )
    return Table(columns=("on", "what", "command", "items", "locks out"), rows=rows, may_fold=frozenset({"what", "command"}))


def verification_report(head: Mapping[str, Any], signer: str | None, citations: int, faults: Sequence[str]) -> Report:
    """Return whether an evidence pack is what it says: which review, by whose signature, and what is wrong with it."""
    state = f"{counted(len(faults), 'fault')}" if faults else "every file and every cited line is what was signed" if signer else "unsigned"
    lines = [
        f"review {head.get('name')}, closed {head.get('closed')} by {head.get('closed_by')}: {state}",
        f"{counted(int(head.get('items') or 0), 'item')}, {counted(citations, 'cited place')}; "
        + (f"signed by {signer}" if signer else "no signature was checked"),
    ]
    return Report(
        answer=lambda: lines,
        parts=lambda: [Block("what is wrong", tuple(Row(fault) for fault in faults), style="bold red")] if faults else [],
        document=lambda: {
            "schema": "fidelitas/review-verification/1",
            "review": head.get("name"),
            "closed": head.get("closed"),
            "items": head.get("items"),
            "citations": citations,
            "signed_by": signer,
            "faults": list(faults),
        },
    )
