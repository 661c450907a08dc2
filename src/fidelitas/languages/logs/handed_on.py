"""Changes of accounts that one program has another make: adduser calls useradd, and both log the one change.

The caller says first what it is about to have made.  That waits for what the other says, which is more: then this counts alone, with the
account that the caller names, where it has none itself.
"""

from collections import deque
from collections.abc import Collection, Iterable, Iterator
from datetime import datetime, timedelta

from fidelitas.facts import Event, EventKind
from fidelitas.languages.logs.waiting import earliest

__all__ = ["LASTING", "HandedOnStream"]

# adduser(8); AccountsService `daemon.c`, `user.c`.
_CALLERS = frozenset({"adduser", "addgroup", "deluser", "delgroup", "accounts-daemon"})
_PATIENCE = timedelta(seconds=5)
_MOST_WAITING = 1000


class HandedOnStream:
    """The events of one log as they go by."""

    __slots__ = ("_waiting",)

    def __init__(self) -> None:
        self._waiting: deque[Event] = deque()  # the first of them is a caller's

    def told_once(self, events: Iterable[Event], until: datetime | None = None) -> Iterator[Event]:
        """Yield the events of a log in their order, of a change that a caller logs as well what the program says that made it.

        Where others come later, none before `until`, what may wait for them goes on waiting.
        """
        for event in events:
            if self._waiting or event.program in _CALLERS:
                yield from self._taken(event)
            else:
                yield event
        yield from self._released(until)

    @property
    def waiting(self) -> Collection[object]:
        """What waits: while it is empty, what comes passes as it is."""
        return self._waiting

    @property
    def since(self) -> datetime | None:
        """Since when something waits that was not yielded yet, ``None`` where nothing does."""
        return earliest(event.at for event in self._waiting)

    def _taken(self, event: Event) -> Iterator[Event]:
        yield from self._released(event.at)
        caller = None if event.program in _CALLERS else next((one for one in self._waiting if _is_same(one, event)), None)
        if caller is not None:
            self._waiting.remove(caller)
            event = event if event.account not in ("", "root") else event._replace(account=caller.account or event.account)
        self._waiting.append(event)
        yield from self._of_no_caller()

    def _released(self, now: datetime | None) -> Iterator[Event]:
        """Yield what has waited long enough, or all where no time is known to which to wait."""
        waiting = self._waiting
        while waiting and not (now is not None and _may_wait(waiting[0].at, now) and len(waiting) <= _MOST_WAITING):
            yield waiting.popleft()
            yield from self._of_no_caller()

    def _of_no_caller(self) -> Iterator[Event]:
        while self._waiting and self._waiting[0].program not in _CALLERS:
            yield self._waiting.popleft()


def _may_wait(since: datetime | None, now: datetime) -> bool:
    return since is not None and abs(now - since) <= _PATIENCE


def _is_same(caller: Event, event: Event) -> bool:
    """Return whether an event is the change that a caller announced: of a group the reason says what became of it, up to a comma."""
    if caller.kind is not EventKind.CHANGED or event.kind is not EventKind.CHANGED or caller.program not in _CALLERS or caller.doubt:
        return False
    return (caller.host, caller.target, caller.group, _what(caller)) == (event.host, event.target, event.group, _what(event))


def _what(event: Event) -> object:
    return event.change or event.reason.partition(",")[0]


# What is kept of a log that goes on.
LASTING = (HandedOnStream,)
