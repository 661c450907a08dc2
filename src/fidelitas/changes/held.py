"""Holdings before and after: what is gained, what is lost, and what is held on other terms."""

from collections.abc import Iterable
from enum import StrEnum

from msgspec import Struct

from fidelitas.rights import Holding

__all__ = ["HeldChange", "Turn", "held_changes"]


class Turn(StrEnum):
    """What became of a right of a holder."""

    GAINED = "gained"
    LOST = "lost"
    EASED = "eased"  # held still, and it takes less: no password, fewer conditions, a surer route
    TIGHTENED = "tightened"
    REPLACED = "replaced"  # by another right of the same holder, or as another holder of the same right
    ROUTE_ADDED = "route added"  # held as before, and by one more route
    ROUTE_REMOVED = "route removed"


class HeldChange(Struct, frozen=True, kw_only=True):
    """A holding that is gained (`before` is ``None``), lost (`after` is ``None``), or held on other terms."""

    before: Holding | None
    after: Holding | None

    @property
    def holding(self) -> Holding:
        """The holding as it is after, or as it was where it is lost."""
        found = self.after or self.before
        if found is None:
            raise ValueError("a change is of something")
        return found

    @property
    def turn(self) -> Turn:
        """What became of it."""
        if self.before is None or self.after is None:
            return Turn.GAINED if self.before is None else Turn.LOST
        return Turn.EASED if _effort(self.after) < _effort(self.before) else Turn.TIGHTENED


def held_changes(before: Iterable[Holding], after: Iterable[Holding]) -> list[HeldChange]:
    """Return what changes from one list of holdings to another: first what is gained, then what is lost, then other terms."""
    old = {(holding.principal, holding.right): holding for holding in before}
    new = {(holding.principal, holding.right): holding for holding in after}
    gained = [HeldChange(before=None, after=new[key]) for key in new if key not in old]
    lost = [HeldChange(before=old[key], after=None) for key in old if key not in new]
    altered = [HeldChange(before=old[key], after=new[key]) for key in new if key in old and _terms(old[key]) != _terms(new[key])]
    return [*gained, *lost, *altered]


def _terms(holding: Holding) -> tuple[object, ...]:
    """Return on which terms something is held: how sure, what is asked, on what it depends; not by which line."""
    best = holding.routes[0]
    return holding.strength, best.asks, best.conditions


def _effort(holding: Holding) -> tuple[int, bool, int]:
    """Return what it takes to use a holding, to be compared: less is easier."""
    best = holding.routes[0]
    return holding.strength, best.asks is not None, len(best.conditions)
