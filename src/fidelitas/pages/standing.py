"""What a charter and reviews leave to be decided or done, in lines for the report."""

from collections import Counter
from collections.abc import Iterable, Iterator
from datetime import date

from fidelitas.charter import CharterState, Due, DueKind, Sanction, Warrant
from fidelitas.pages.content import Standing
from fidelitas.reports.numbers import counted
from fidelitas.reviews import Standing as Reviewed

__all__ = ["standing_of"]

_OVERDUE = frozenset({DueKind.LAPSED, DueKind.REVIEW, DueKind.OWNER_LEFT})


def standing_of(state: CharterState | None, reviews: Iterable[Reviewed]) -> Standing:
    """Return what is due by a charter, where there is one, and by reviews that are open; what is overdue comes first."""
    lines: list[str] = []
    overdue = 0
    if state is not None:
        late = [one for one in state.due if one.kind in _OVERDUE]
        soon = [one for one in state.due if one.kind not in _OVERDUE]
        overdue += len(late)
        lines += [*map(_due, late), *_of_charter(state), *map(_due, soon)]
    for one in reviews:
        waiting = len(one.undecided)
        left = len(one.left)
        overdue += left
        if waiting or left:
            parts = [counted(waiting, "item") + " to be decided"] if waiting else []
            parts += [counted(left, "revocation") + " not yet carried out"] if left else []
            lines.append(f"Review {one.review.name}: {', '.join(parts)}.")
    return Standing(lines=tuple(lines), overdue=overdue)


def _of_charter(state: CharterState) -> Iterator[str]:
    if state.conflicts:
        yield f"{counted(len(state.conflicts), 'conflict')} of duties that are to be kept apart."
    counts = Counter(one.sanction for one in state.judged)
    for sanction, said in ((Sanction.NO, "not sanctioned"), (Sanction.BROADER, "broader than sanctioned")):
        if counts[sanction]:
            yield f"{counted(counts[sanction], 'holding')} {'is' if counts[sanction] == 1 else 'are'} {said}."


def _due(one: Due) -> str:
    return f"{_entry(one)}: {one.kind.value}{_since(one.day)}."


def _since(day: date | None) -> str:
    return f" ({day:%Y-%m-%d})" if day is not None else ""


def _entry(one: Due) -> str:
    entry = one.entry
    kind = "warrant" if isinstance(entry, Warrant) else "exception"
    return f"Charter {kind} {entry.number}, {entry}{f' (owner {entry.owner})' if entry.owner else ''}"
