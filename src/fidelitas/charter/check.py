"""A charter held against policies: which demands are kept, which are broken, and which cannot be told."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from enum import Enum

from fidelitas.charter.read import Clause, Kind
from fidelitas.rights.sudo import Decision, Verdict

__all__ = ["Outcome", "Result", "check_charter"]


class Outcome(Enum):
    """What became of a demand."""

    KEPT = "kept"
    BROKEN = "broken"
    UNKNOWN = "not known"


@dataclass(frozen=True, slots=True, kw_only=True)
class Result:
    """A clause, what became of it, and the decision or the reason behind that."""

    clause: Clause
    outcome: Outcome
    decision: Decision | None = None
    reason: str = ""


# Answers a clause: the decision, or in words why there is none.
Ask = Callable[[Clause], Decision | str]


def check_charter(clauses: Iterable[Clause], ask: Ask) -> list[Result]:
    """Return a result for each clause."""
    return [_result(clause, ask(clause)) for clause in clauses]


def _result(clause: Clause, answer: Decision | str) -> Result:
    if isinstance(answer, str):
        return Result(clause=clause, outcome=Outcome.UNKNOWN, reason=answer)
    kept = (answer.verdict is Verdict.ALLOWED) is (clause.kind is Kind.MUST)
    return Result(clause=clause, outcome=Outcome.KEPT if kept else Outcome.BROKEN, decision=answer, reason=answer.reason)
