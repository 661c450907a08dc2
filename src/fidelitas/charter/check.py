"""A charter checked against policies: which demands are kept, which are broken, and which cannot be decided."""

from collections.abc import Callable, Iterable, Sequence
from enum import Enum

from msgspec import Struct

from fidelitas.charter.entries import Clause, Kind
from fidelitas.charter.scope import gives
from fidelitas.rights import Holding, RightKind
from fidelitas.rights.linux.sudo import Decision, Verdict
from fidelitas.text import Place

__all__ = ["Outcome", "Result", "check_charter", "decisive"]


class Outcome(Enum):
    """What became of a demand."""

    KEPT = "kept"
    UNLESS = "kept unless"  # something that is not in evidence decides
    BROKEN = "broken"
    UNKNOWN = "not known"


class Result(Struct, frozen=True, kw_only=True):
    """A clause, what became of it, and the decision or the reason behind that."""

    clause: Clause
    outcome: Outcome
    decision: Decision | None = None
    reason: str | None = None
    place: Place | None = None  # of the route that breaks it, where that is no rule of sudo


# Answers a clause: the decision, or in words why there is none.
Ask = Callable[[Clause], Decision | str]
# Returns what the account of a clause holds on its subject, by whatever route.
HoldingsOf = Callable[[Clause], Iterable[Holding]]


def check_charter(clauses: Iterable[Clause], ask: Ask, held: HoldingsOf) -> list[Result]:
    """Return a result for each clause.

    A never is broken by any route, not by sudo alone: anyone who can become root, or the account in question, can run anything as it.
    """
    return [_result(clause, ask(clause), held) if clause.right is None else _of_right(clause, held) for clause in clauses]


def decisive(clause: Clause, decisions: Sequence[Decision]) -> Decision:
    """Return of the decisions on each account that a name can mean what a demand hangs on: the first that breaks it, else the first."""
    breaking = clause.kind is Kind.NEVER
    return next((one for one in decisions if (one.verdict is Verdict.ALLOWED) is breaking), decisions[0])


def _of_right(clause: Clause, held: HoldingsOf) -> Result:
    """Return what becomes of a demand for a right, or of the one that it is never held."""
    having = [one for one in held(clause) if clause.right is not None and gives(one.right, clause.right)]
    routes = [route for one in having for route in one.routes]
    best = min(routes, key=lambda route: (bool(route.conditions), len(route.links)), default=None)
    if best is None:
        outcome = Outcome.BROKEN if clause.kind is Kind.MUST else Outcome.KEPT
        return Result(clause=clause, outcome=outcome, reason="it is not held by any route")
    how, conditions = "; ".join(link.because for link in best.links), "; ".join(best.conditions)
    certain = Outcome.KEPT if clause.kind is Kind.MUST else Outcome.BROKEN
    doubtful = Outcome.UNKNOWN if clause.kind is Kind.MUST else Outcome.UNLESS
    return Result(
        clause=clause, outcome=doubtful if conditions else certain, reason=f"{conditions}: {how}" if conditions else how, place=best.place
    )


def _result(clause: Clause, answer: Decision | str, held: HoldingsOf) -> Result:
    if isinstance(answer, str):
        return Result(clause=clause, outcome=Outcome.UNKNOWN, reason=answer)
    allowed, conditions = answer.verdict is Verdict.ALLOWED, "; ".join(answer.conditions)
    if clause.kind is Kind.MUST:
        outcome = Outcome.BROKEN if not allowed else Outcome.UNKNOWN if conditions else Outcome.KEPT
        reason = answer.reason or (f"only if {conditions}" if conditions else None)
        return Result(clause=clause, outcome=outcome, decision=answer, reason=reason)
    if allowed:
        outcome = Outcome.UNLESS if conditions else Outcome.BROKEN
        return Result(clause=clause, outcome=outcome, decision=answer, reason=answer.reason or conditions)
    return _by_other_routes(clause, answer, held)


def _by_other_routes(clause: Clause, answer: Decision, held: HoldingsOf) -> Result:
    """Return what becomes of a never that the sudo policy alone would keep."""
    routes = [route for holding in held(clause) if _reaches(holding, clause) for route in holding.routes]
    best = min(routes, key=lambda route: (bool(route.conditions), len(route.links)), default=None)
    if best is None:
        return Result(clause=clause, outcome=Outcome.KEPT, decision=answer, reason=answer.reason)
    how = "; ".join(link.because for link in best.links)
    if best.conditions:
        return Result(clause=clause, outcome=Outcome.UNLESS, reason=f"{'; '.join(best.conditions)}: {how}", place=best.place)
    return Result(clause=clause, outcome=Outcome.BROKEN, reason=how, place=best.place)


def _reaches(holding: Holding, clause: Clause) -> bool:
    """Return whether a right lets its holder run anything as the account that the clause names."""
    account = (clause.run_as or "root").partition(":")[0] or clause.account
    if holding.right.kind in (RightKind.ROOT, RightKind.ADMIN):
        return True
    return holding.right.kind is RightKind.RUN_AS and holding.right.detail == account
