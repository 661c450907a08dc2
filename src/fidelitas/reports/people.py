"""People across systems: what each holds altogether, leavers, shared and unmapped accounts; as blocks, a table, and the JSON document."""

from datetime import date
from typing import Any

from fidelitas.people import Joined, MappedPerson, Owned
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.numbers import counted
from fidelitas.reports.places import place_document
from fidelitas.reports.report import Report
from fidelitas.reports.standing import furthest, standing
from fidelitas.reports.table import Table

__all__ = ["people_blocks", "people_document", "people_report", "persons_table"]

_MOST_SHOWN = 20


def people_report(joined: Joined, today: date) -> Report:
    """Return what each person holds altogether, and what needs a decision."""
    return Report(
        answer=lambda: [_answer(joined, today)],
        onward=lambda: _onward(joined, today),
        parts=lambda: [persons_table(joined, today), "\n", *people_blocks(joined, today)],
        rows=lambda: [persons_table(joined, today, whole=True)],
        document=lambda: people_document(joined, today),
    )


def _answer(joined: Joined, today: date) -> str:
    """Return how many people there are, who of them has left and still holds rights, and which accounts need a decision."""
    held = sum(any(one.holdings for one in owned) for _, owned in joined.people)
    gone = [person.name for person, _ in joined.leavers(today)]
    left = f"{counted(len(gone), 'person')} left and still {'holds' if len(gone) == 1 else 'hold'} rights" if gone else ""
    others = [
        left,
        f"{counted(len(joined.shared), 'shared account')}" if joined.shared else "",
        f"{counted(len(joined.unmapped), 'account')} with rights in nobody's entry" if joined.unmapped else "",
    ]
    told = [text for text in others if text]
    return f"{counted(len(joined.people), 'person')}, {held} with elevated rights" + (f"; {'; '.join(told)}" if told else "")


def _onward(joined: Joined, today: date) -> list[str]:
    gone = [person for person, _ in joined.leavers(today)]
    return [f'fidelitas leaver "{gone[0].name}" --people MAP'] if gone else []


def persons_table(joined: Joined, today: date, *, whole: bool = False) -> Table:
    """Return a row for each person; their accounts are counted, or named where the `whole` is wanted."""
    return Table(
        columns=("person", "team", "status", "until", "accounts", "rights", "furthest"),
        rows=tuple(
            (
                person.name,
                person.team or "",
                "left" if person.has_left(today) else person.status,
                str(person.until or ""),
                ", ".join(map(str, owned)) if whole else str(len(owned)),
                str(sum(len(one.holdings) for one in owned)),
                furthest(holding for one in owned for holding in one.holdings),
            )
            for person, owned in joined.people
        ),
        may_fold=frozenset({"accounts", "furthest"}),
        styles=tuple(
            "bold red" if person.has_left(today) and any(one.holdings for one in owned) else "" for person, owned in joined.people
        ),
        empty="The map names nobody.",
    )


def people_blocks(joined: Joined, today: date) -> list[Block]:
    """Return what needs a decision: leavers who hold rights, shared accounts, accounts of nobody, names that are nowhere."""
    groups = (
        ("Left, and still holding rights", "bold red", [_left(person.name, owned) for person, owned in joined.leavers(today)]),
        ("Shared accounts", "bold", [f"{one}: {', '.join(names)}" for one, names in joined.shared]),
        (
            "Accounts with rights that are in nobody's entry",
            "bold",
            [_unmapped(joined, number) for number in range(len(joined.unmapped))],
        ),
        (
            "Accounts that only one person's key opens",
            "bold",
            [f"{one.subject}:{one.account}: {one.person} ({one.why})  {one.place.in_file()}" for one in joined.one_key],
        ),
        ("Accounts of the map that no subject has", "bold", [_missing(*one) for one in joined.missing]),
    )
    return [_block(title, style, lines) for title, style, lines in groups if lines]


def _left(name: str, owned: tuple[Owned, ...]) -> str:
    return standing(name, (holding for one in owned for holding in one.holdings))


def _unmapped(joined: Joined, number: int) -> str:
    one = joined.unmapped[number]
    return f"{one.owned}: {one.owned.holdings[0].right}" + (f"; perhaps of {one.person}: {one.why}" if one.person else "")


def _missing(person: MappedPerson, account: str, near: str) -> str:
    return f"{person.name}: {account}" + (f"; did you mean {near}?" if near else "")


def _block(title: str, style: str, lines: list[str]) -> Block:
    more = len(lines) - _MOST_SHOWN
    rows = [Row(line) for line in lines[:_MOST_SHOWN]] + ([Row(f"and {more} more")] if more > 0 else [])
    return Block(f"{title}: {len(lines)}", tuple(rows), style=style)


def _owned(one: Owned) -> dict[str, Any]:
    rights = [{"right": str(holding.right), "place": place_document(holding.routes[0].place)} for holding in one.holdings]
    return {"subject": one.subject, "account": one.account, "rights": rights}


def people_document(joined: Joined, today: date) -> dict[str, Any]:
    """Return the JSON document of people."""
    return {
        "schema": "fidelitas/people/1",
        "people": [
            {
                "person": person.name,
                "team": person.team,
                "status": person.status,
                "until": str(person.until) if person.until else None,
                "left": person.has_left(today),
                "accounts": [_owned(one) for one in owned],
            }
            for person, owned in joined.people
        ],
        "shared": [{**_owned(one), "people": list(names)} for one, names in joined.shared],
        "unmapped": [
            {**_owned(one.owned), "perhaps": one.person or None, "why": one.why or None, "score": one.score} for one in joined.unmapped
        ],
        "one_key": [
            {"subject": one.subject, "account": one.account, "person": one.person, "why": one.why, "place": place_document(one.place)}
            for one in joined.one_key
        ],
        "missing": [{"person": person.name, "account": account, "nearest": near or None} for person, account, near in joined.missing],
    }
