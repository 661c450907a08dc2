"""What changed in rights on one subject, with causes; what was lost and gained at once by one change is one thing."""

from collections.abc import Iterable, Iterator, Sequence

from msgspec import Struct

from fidelitas.changes.causes import Cause, IsIn, LinkChanges
from fidelitas.changes.held import HeldChange, Turn, held_changes
from fidelitas.rights import Holding, Link, Principal, Right

__all__ = ["RightChange", "right_changes"]


class RightChange(Struct, frozen=True, kw_only=True):
    """What became of a right of a holder, and why.

    `before` and `after` are holdings of one holder and right, unless it is `replaced`: then one change took one holding and gave the other,
    of the same holder or of the same right.  `doubtful` says that a loss may be one of evidence alone: less was read.
    """

    turn: Turn
    before: Holding | None
    after: Holding | None
    causes: tuple[Cause, ...]
    doubtful: bool = False

    @property
    def holding(self) -> Holding:
        """The holding as it is after, or as it was where it is lost."""
        return HeldChange(before=self.before, after=self.after).holding

    @property
    def subject(self) -> str:
        """The subject that it is on."""
        return self.holding.right.subject

    @property
    def is_gain(self) -> bool:
        """Whether someone has more than before, or has it more easily."""
        return self.turn in (Turn.GAINED, Turn.EASED, Turn.REPLACED)


def right_changes(
    before: Sequence[Holding], after: Sequence[Holding], was_in: IsIn, is_in: IsIn, *, less_was_read: bool = False
) -> list[RightChange]:
    """Return what changed from one list of a subject's holdings to another; `was_in` and `is_in` know its memberships at both times."""
    old, new, links = before, after, LinkChanges(before, after, was_in, is_in)
    changed = held_changes(old, new)
    found = [_with_causes(change, links, less_was_read=less_was_read) for change in changed]
    return [*_paired(found), *_routes(old, new, {id(change.after) for change in changed}, links)]


def _routes(old: Iterable[Holding], new: Iterable[Holding], changed: set[int], links: LinkChanges) -> Iterator[RightChange]:
    """Yield what is held as before, and by a route that was not there before, or no longer by one."""
    before = {(holding.principal, holding.right): holding for holding in old}
    for after in new:
        earlier = before.get((after.principal, after.right))
        if earlier is None or id(after) in changed:
            continue
        added, removed = links.every_cause(after, gained=True), links.every_cause(earlier, gained=False)
        for turn, causes in ((Turn.ROUTE_ADDED, added), (Turn.ROUTE_REMOVED, removed)):
            once = tuple(cause for cause in causes if not cause.on_other_terms)
            if once:
                yield RightChange(turn=turn, before=earlier, after=after, causes=once)


def _with_causes(change: HeldChange, links: LinkChanges, *, less_was_read: bool) -> RightChange:
    gained, turn = change.after is not None, change.turn
    return RightChange(
        turn=turn,
        before=change.before,
        after=change.after,
        causes=links.causes(change.holding, gained=gained),
        doubtful=less_was_read and turn is Turn.LOST,
    )


_Pair = tuple[Link, Link]


def _paired(found: Iterable[RightChange]) -> Iterator[RightChange]:
    """Yield the changes, with what one change of a link took and gave as one."""
    every = list(found)
    lost: dict[tuple[_Pair, Principal | Right], list[RightChange]] = {}
    for change in every:
        if change.turn is Turn.LOST:
            for key in _keys(change):
                lost.setdefault(key, []).append(change)
    for those in lost.values():
        those.sort(key=_by_own_line)
    used: set[int] = set()
    merged = [_merged(change, lost, used) if change.turn is Turn.GAINED else change for change in every]
    yield from (change for change in merged if id(change) not in used)


def _by_own_line(change: RightChange) -> tuple[bool, str]:
    """Return in which order losses are to be paired: first that of the holder whom the line itself names."""
    principal = change.holding.principal
    return all(cause.link.source != principal for cause in change.causes), str(principal)


def _merged(gain: RightChange, lost: dict[tuple[_Pair, Principal | Right], list[RightChange]], used: set[int]) -> RightChange:
    for key in _keys(gain):
        loss = next((one for one in lost.get(key, ()) if id(one) not in used), None)
        if loss is not None:
            used.add(id(loss))
            return RightChange(turn=Turn.REPLACED, before=loss.before, after=gain.after, causes=gain.causes)
    return gain


def _keys(change: RightChange) -> Iterator[tuple[_Pair, Principal | Right]]:
    """Yield by what a loss and a gain belong together: one changed link, and the same holder or else the same right."""
    pairs = [(cause.before, cause.after) for cause in change.causes if cause.before is not None and cause.after is not None]
    for known in (change.holding.principal, change.holding.right):
        yield from ((pair, known) for pair in pairs)
