"""A charter checked against the estate: demands, conflicts, what is not sanctioned, what is due; and the JSON document `charter`."""

import shlex
from collections.abc import Iterable, Sequence
from typing import Any

from fidelitas.charter import AcceptedFinding, CharterState, Conflict, Due, Judged, Outcome, Result, Sanction, Warrant, widest
from fidelitas.reports.grouping import merged
from fidelitas.reports.issues import issues_of_charter
from fidelitas.reports.numbers import counted, first_rights, listed
from fidelitas.reports.places import place_document
from fidelitas.reports.report import Part, Report
from fidelitas.reports.sentences import brief, holder
from fidelitas.reports.table import Table
from fidelitas.text import shortened

__all__ = ["charter_document", "charter_report", "charter_table"]

_STYLES = {Outcome.KEPT: "", Outcome.UNLESS: "bold", Outcome.BROKEN: "bold red", Outcome.UNKNOWN: "bold"}
_ORDER = (Outcome.BROKEN, Outcome.UNKNOWN, Outcome.UNLESS, Outcome.KEPT)
_MOST_SUBJECTS, _MOST_NAMES = 3, 8


def charter_report(results: Sequence[Result], state: CharterState) -> Report:
    """Return what became of a charter's demands, and of all else that it says."""
    return Report(
        answer=lambda: _answer(results, state),
        parts=lambda: _parts(results, state),
        onward=lambda: _onward(results, state),
        rows=lambda: [charter_table(results), _judged_rows(state), _conflicts_table(state.conflicts), _due_table(state.due)],
        document=lambda: charter_document(results, state),
        issues=lambda: issues_of_charter(results, state),
    )


def _answer(results: Sequence[Result], state: CharterState) -> list[str]:
    """Return how many demands are kept or broken, how much of what is held is sanctioned, and what else there is to see to."""
    lines = []
    if results or not state.judged:
        counts = [(outcome, sum(one.outcome is outcome for one in results)) for outcome in _ORDER]
        lines.append(
            f"{counted(len(results), 'demand')}: " + (", ".join(f"{count} {one.value}" for one, count in counts if count) or "none")
        )
    if state.judged:
        told = ", ".join(f"{len(state.of(sanction))} {sanction.value}" for sanction in Sanction if state.of(sanction))
        lines.append(f"{counted(len(state.judged), 'holding')}: {told}")
    rest = [(len(state.conflicts), "conflict"), (len(state.reviewed.excepted), "excepted finding"), (len(state.due), "entry")]
    told = ", ".join(f"{counted(count, noun)}{' due' if noun == 'entry' else ''}" for count, noun in rest if count)
    return [*lines, *([told] if told else [])]


def _parts(results: Sequence[Result], state: CharterState) -> list[Part]:
    sections: list[tuple[str, Table]] = []
    if results or not state.judged:
        sections.append(("", charter_table(results)))
    if state.conflicts:
        sections.append(("Conflicts of duties", _conflicts_table(state.conflicts)))
    for sanction, title in ((Sanction.NO, "Unsanctioned"), (Sanction.BROADER, "Broader than sanctioned")):
        if state.of(sanction):
            sections.append((title, _judged_table(widest(state.of(sanction)))))
    if state.due:
        sections.append(("Due", _due_table(state.due)))
    parts: list[Part] = []
    for title, table in sections:
        parts += [*(["\n"] if parts else []), *([f"{title}\n"] if title else []), table]
    return parts or ["Everything that is held is sanctioned.\n"]


def _onward(results: Sequence[Result], state: CharterState) -> list[str]:
    broken = next((one.clause for one in results if one.outcome is Outcome.BROKEN), None)
    if broken is not None:
        return [f"fidelitas why {shlex.quote(broken.account)} {broken.subject}"]
    first = next(iter([*state.of(Sanction.NO), *state.of(Sanction.BROADER)]), None)
    return [f"fidelitas why {shlex.quote(str(first.holding.principal))} {first.holding.right.subject}"] if first is not None else []


def charter_table(results: Sequence[Result]) -> Table:
    """Return one row a demand, the broken ones first."""
    ordered = sorted(results, key=lambda result: _ORDER.index(result.outcome))
    return Table(
        columns=("outcome", "subject", "demand", "because", "place"),
        rows=tuple((one.outcome.value, one.clause.subject, str(one.clause), _because(one), _place(one)) for one in ordered),
        may_fold=frozenset({"demand", "because", "place"}),
        styles=tuple(_STYLES[one.outcome] for one in ordered),
        first_only=True,
        empty="The charter demands nothing.",
    )


def _because(result: Result) -> str:
    if result.decision is None:
        return result.reason or ""
    return result.decision.rule.statement if result.decision.rule else result.reason or "no rule is about it"


def _place(result: Result) -> str:
    rule = result.decision.rule if result.decision else None
    place = rule.place if rule else result.place
    return place.in_file() if place else ""


# -- what is held ------------------------------------------------------------------------------------------------------------------


def _judged_table(judged: Iterable[Judged]) -> Table:
    """Return a row for holdings that are alike: who, what, where, by which route, and why it is not sanctioned."""
    ordered = sorted(judged, key=lambda one: (one.holding.right.kind, str(one.holding.right), one.holding.right.subject))
    told = any(_charter_words(one) for one in ordered)
    rows = merged((holder(one.holding.principal), str(one.holding.right), one.holding.right.subject, _rest(one)) for one in ordered)
    return Table(
        columns=("holder", "right", "on", "through", *(["charter"] if told else [])),
        rows=tuple(
            (
                listed(names, _MOST_NAMES, "more"),
                first_rights(rights),
                listed(subjects, _MOST_SUBJECTS, "subject"),
                *rest[: 2 if told else 1],
            )
            for names, rights, subjects, rest in rows
        ),
        may_fold=frozenset({"holder", "right", "through", "charter"}),
        least=("through",),
    )


def _rest(one: Judged) -> tuple[str, str]:
    route = one.holding.routes[0]
    through = brief(route) + ("" if one.holding.granted else " (a weakness)")
    return through, _charter_words(one)


def _charter_words(one: Judged) -> str:
    if one.warrant is None:
        return ""
    return f"warrant {one.warrant.number}: {one.reason or 'sanctions it'}"


def _judged_rows(state: CharterState) -> Table:
    """Return a row for each holding."""
    rows = [
        (one.sanction.value, str(one.holding.principal), str(one.holding.right), one.holding.right.subject, *_rest(one))
        for one in state.judged
    ]
    return Table(columns=("sanction", "holder", "right", "subject", "through", "charter"), rows=tuple(rows))


def _conflicts_table(conflicts: Sequence[Conflict]) -> Table:
    rows = [
        (one.holder, ", ".join(f"{held.right} on {held.right.subject}" for held in one.holdings), one.segregation.why) for one in conflicts
    ]
    return Table(columns=("holder", "holds together", "why not"), rows=tuple(rows), may_fold=frozenset({"holds together", "why not"}))


def _due_table(due: Sequence[Due]) -> Table:
    rows = [(one.kind.value, "" if one.day is None else str(one.day), *_entry_words(one.entry)) for one in due]
    return Table(columns=("due", "day", "entry", "of", "owner"), rows=tuple(rows), may_fold=frozenset({"of"}))


def _entry_words(entry: Warrant | AcceptedFinding) -> tuple[str, str, str]:
    kind = "warrant" if isinstance(entry, Warrant) else "exception"
    why = entry.why if isinstance(entry, Warrant) else entry.reason
    return f"{kind} {entry.number}", shortened(f"{entry}{f': {why}' if why else ''}"), entry.owner


# -- as a document -----------------------------------------------------------------------------------------------------------------


def charter_document(results: Sequence[Result], state: CharterState) -> dict[str, Any]:
    """Return the JSON document of a charter check."""
    return {
        "schema": "fidelitas/charter/1",
        "day": state.day.isoformat(),
        "results": [_result_document(one) for one in results],
        "holdings": [_judged_document(one) for one in state.judged],
        "conflicts": [
            {
                "number": one.segregation.number,
                "holder": one.holder,
                "holdings": [{"right": str(held.right), "subject": held.right.subject} for held in one.holdings],
                "why": one.segregation.why or None,
            }
            for one in state.conflicts
        ],
        "due": [
            {
                "due": one.kind.value,
                "day": one.day.isoformat() if one.day is not None else None,
                "entry": "warrant" if isinstance(one.entry, Warrant) else "exception",
                "number": one.entry.number,
                "owner": one.entry.owner or None,
            }
            for one in state.due
        ],
        "excepted": [
            {"key": finding.key, "check": finding.check, "subject": finding.subject, "number": entry.number, "reason": entry.reason}
            for finding, entry in state.reviewed.excepted
        ],
    }


def _result_document(one: Result) -> dict[str, Any]:
    return {
        "outcome": one.outcome.value,
        "kind": one.clause.kind.value,
        "number": one.clause.number,
        "account": one.clause.account,
        "subject": one.clause.subject,
        "right": one.clause.right,
        "run_as": one.clause.run_as,
        "command": list(one.clause.command),
        "why": one.clause.why or None,
        "decision": one.decision.verdict.value if one.decision else None,
        "reason": one.reason or None,
        "rule": place_document(one.decision.rule.place) if one.decision and one.decision.rule else None,
        "place": place_document(one.place) if one.place else None,
    }


def _judged_document(one: Judged) -> dict[str, Any]:
    return {
        "sanction": one.sanction.value,
        "holder": str(one.holding.principal),
        "right": str(one.holding.right),
        "subject": one.holding.right.subject,
        "granted": one.holding.granted,
        "strength": str(one.holding.strength),
        "warrant": one.warrant.number if one.warrant is not None else None,
        "reason": one.reason or None,
        "place": place_document(one.holding.routes[0].place),
    }
