"""What became of a charter's demands: a table, and the JSON document `charter`."""

import shlex
from collections.abc import Sequence
from typing import Any

from fidelitas.charter import Outcome, Result
from fidelitas.reports.numbers import counted
from fidelitas.reports.places import place_document
from fidelitas.reports.report import Report
from fidelitas.reports.table import Table

__all__ = ["charter_document", "charter_report", "charter_table"]

_STYLES = {Outcome.KEPT: "", Outcome.UNLESS: "bold", Outcome.BROKEN: "bold red", Outcome.UNKNOWN: "bold"}

_ORDER = (Outcome.BROKEN, Outcome.UNKNOWN, Outcome.UNLESS, Outcome.KEPT)


def charter_report(results: Sequence[Result]) -> Report:
    """Return what became of a charter's demands."""
    return Report(
        answer=lambda: [_answer(results)],
        parts=lambda: [charter_table(results)],
        onward=lambda: _onward(results),
        document=lambda: charter_document(results),
    )


def _answer(results: Sequence[Result]) -> str:
    """Return how many demands are kept, broken, or not known."""
    counts = [(outcome, sum(one.outcome is outcome for one in results)) for outcome in _ORDER]
    return f"{counted(len(results), 'demand')}: " + ", ".join(f"{count} {outcome.value}" for outcome, count in counts if count)


def _onward(results: Sequence[Result]) -> list[str]:
    broken = next((one.clause for one in results if one.outcome is Outcome.BROKEN), None)
    return [f"fidelitas why {shlex.quote(broken.account)} {broken.subject}"] if broken is not None else []


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


def charter_document(results: Sequence[Result]) -> dict[str, Any]:
    """Return the JSON document of a charter check."""
    return {
        "schema": "fidelitas/charter/1",
        "results": [
            {
                "outcome": one.outcome.value,
                "kind": one.clause.kind.value,
                "number": one.clause.number,
                "account": one.clause.account,
                "subject": one.clause.subject,
                "run_as": one.clause.run_as,
                "command": list(one.clause.command),
                "why": one.clause.why or None,
                "decision": one.decision.verdict.value if one.decision else None,
                "reason": one.reason or None,
                "rule": place_document(one.decision.rule.place) if one.decision and one.decision.rule else None,
                "place": place_document(one.place) if one.place else None,
            }
            for one in results
        ],
    }
