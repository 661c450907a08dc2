"""What a person who leaves still holds, and the steps that end it; as tables, and as the JSON document `departure`."""

from collections.abc import Sequence
from typing import Any

from fidelitas.departure import Departure, Phase, Remaining, Step
from fidelitas.reports.numbers import counted
from fidelitas.reports.places import place_document
from fidelitas.reports.report import Part, Report
from fidelitas.reports.sentences import brief
from fidelitas.reports.table import Table

__all__ = ["departure_report"]

_PHASES = {
    Phase.LOCK: "no more logins",
    Phase.SESSIONS: "end what is open",
    Phase.KEYS: "remove keys",
    Phase.RIGHTS: "remove rights",
    Phase.LEFT_BEHIND: "remove what acts for it",
}


def departure_report(departure: Departure) -> Report:
    """Return what is left of a person, and what to do."""
    return Report(
        answer=lambda: [_answer(departure)],
        parts=lambda: _parts(departure),
        onward=lambda: ["run the steps, survey again, then the same command with --verify"] if departure.steps else [],
        rows=lambda: [_remaining_table(departure.remaining), _steps_table(departure.steps)],
        document=lambda: _document(departure),
    )


def _answer(departure: Departure) -> str:
    name = departure.person.name
    where = f"{counted(len(departure.accounts), 'account')} on {counted(len({one.subject for one, _ in departure.accounts}), 'subject')}"
    if not departure.remaining and not departure.steps:
        return f"{name} holds nothing any more: {where}, all without rights, memberships, sessions and logins"
    subjects = {one.subject.subject for one in departure.remaining}
    held = (
        f"holds {counted(len(departure.remaining), 'right')} on {counted(len(subjects), 'subject')}"
        if departure.remaining
        else "holds no right"
    )
    return f"{name} ({where}) still {held}; {counted(len(departure.steps), 'step')} to remove what is left"


def _parts(departure: Departure) -> list[Part]:
    parts: list[Part] = []
    if departure.remaining:
        parts += ["Still held\n", _remaining_table(departure.remaining)]
    if departure.steps:
        parts += ["\n", "Steps, in this order; nothing was changed\n", _steps_table(departure.steps)]
    return parts


def _remaining_table(remaining: Sequence[Remaining]) -> Table:
    return Table(
        columns=("subject", "account", "right", "through", "place"),
        rows=tuple(
            (one.subject.subject, one.account, str(one.holding.right), brief(route), route.place.in_file())
            for one in remaining
            for route in one.holding.routes[:1]
        ),
        may_fold=frozenset({"right", "through"}),
        least=("place",),
        empty="Nothing is held any more.",
    )


def _steps_table(steps: Sequence[Step]) -> Table:
    return Table(
        columns=("step", "subject", "phase", "what", "command", "place"),
        rows=tuple(
            (str(number), one.subject, _PHASES[one.phase], one.what, one.command, one.place.in_file() if one.place else "")
            for number, one in enumerate(steps, 1)
        ),
        may_fold=frozenset({"what"}),
        least=("place", "phase"),
        empty="Nothing is left to do.",
    )


def _document(departure: Departure) -> dict[str, Any]:
    return {
        "schema": "fidelitas/departure/1",
        "person": departure.person.name,
        "accounts": [{"subject": one.subject, "account": name} for one, name in departure.accounts],
        "remaining": [
            {
                "subject": one.subject.subject,
                "account": one.account,
                "right": str(one.holding.right),
                "strength": str(one.holding.strength),
                "place": place_document(one.holding.routes[0].place),
            }
            for one in departure.remaining
        ],
        "steps": [
            {
                "phase": step.phase.name.lower().replace("_", "-"),
                "subject": step.subject,
                "what": step.what,
                "command": step.command,
                "place": place_document(step.place) if step.place else None,
            }
            for step in departure.steps
        ],
    }
