"""One event that several logs tell, told once: by syslog, the journal and the audit log, or by a log that was collected twice."""

from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime, timedelta
from typing import NamedTuple

from fidelitas.facts import Event, EventKind

__all__ = ["Sourced", "deduplicate"]

# Stamps of whole seconds, and the time that a message takes from one daemon to the next.
_WITHIN = timedelta(seconds=2)
_MOST_GONE = 1000


class Sourced(NamedTuple):
    """An event, when it was, and the family of logs that tells it."""

    at: datetime
    family: int
    event: Event


class _Held:
    """An event that waits for others that tell the same, and the families that have told it."""

    __slots__ = ("families", "key", "one")

    def __init__(self, one: Sourced, key: object) -> None:
        self.one, self.key, self.families = one, key, {one.family}


def deduplicate(events: Iterable[Sourced], missed: list[Sourced], surveys: Sequence[int]) -> Iterator[Event]:
    """Yield events that come by time, of those alike from different families within moments the one that tells most.

    `surveys` tells when each family was collected; what no family of the last one tells is added to `missed`.
    """
    last = max(surveys)
    held: deque[_Held] = deque()
    alike: dict[object, list[_Held]] = {}
    for one in events:
        while held and abs(one.at - held[0].one.at) > _WITHIN:  # a clock that is set back must not keep all
            yield _let_go(held, alike, missed, surveys, last)
        key = _key(one.event)
        twin = next((other for other in alike.get(key, ()) if one.family not in other.families), None)
        if twin is not None:
            twin.families.add(one.family)
            twin.one = _fuller(twin.one, one)
        else:
            held.append(_Held(one, key))
            alike.setdefault(key, []).append(held[-1])
    while held:
        yield _let_go(held, alike, missed, surveys, last)


def _let_go(held: deque[_Held], alike: dict[object, list[_Held]], missed: list[Sourced], surveys: Sequence[int], last: int) -> Event:
    oldest = held.popleft()
    waiting = alike[oldest.key]
    waiting.remove(oldest)
    if not waiting:
        del alike[oldest.key]
    if last and len(missed) < _MOST_GONE and all(surveys[family] < last for family in oldest.families):
        missed.append(oldest.one)
    return oldest.one.event


def _key(event: Event) -> object:
    """Return what is the same where two logs tell one event: the audit log knows no target of sudo, and words changes its own way."""
    if event.kind is EventKind.USED or event.kind is EventKind.REFUSED:
        return event.kind, event.account, event.command or event.target
    if event.kind is EventKind.CHANGED:
        return event.kind, event.program, event.target, event.group
    return event.kind, event.program.removesuffix("-i").removesuffix("-l"), event.target, event.command


def _fuller(one: Sourced, other: Sourced) -> Sourced:
    """Return the one that tells more, with the account of the log-in and a doubt where either tells them."""
    base, second = (one, other) if sum(map(bool, one.event.dedup_key)) >= sum(map(bool, other.event.dedup_key)) else (other, one)
    login, doubt = base.event.login or second.event.login, base.event.doubt or second.event.doubt
    if (login, doubt) == (base.event.login, base.event.doubt):
        return Sourced(one.at, base.family, base.event)
    return Sourced(one.at, base.family, base.event._replace(login=login, doubt=doubt))
