"""One password put to several modules of PAM: the module of the passwords of the host says no, then that of a directory decides.

Each use of sudo by an account of a directory begins with a failure that does not count.  So what pam_unix says waits for the next line of
its process: where another module says there whether the password was right, that counts alone.  What the program itself says of wrong
passwords, and what is not known to be of one process, is counted as ever: no line can take that away.
"""

from collections import deque
from collections.abc import Callable, Collection, Iterable, Iterator
from datetime import datetime, timedelta

from fidelitas.facts import Event
from fidelitas.languages.logs.waiting import earliest

__all__ = ["LASTING", "OTHER_MODULES", "VerdictStream"]

# How lines of other modules that say whether a password was right are known in a block.
OTHER_MODULES = (b"pam_sss(", b"pam_krb5(", b"pam_winbind(", b"pam_ldap(", b"pam_radius_auth(")
_HOST_MODULE = "unix"
_MOST_WAITING = 1000
_MOST_PROCESSES = 1000
# For so long a process asks for passwords; its number may be given to another later.
_LONGEST = timedelta(minutes=15)

_Process = tuple[str, int | None]


class _Waiting:
    """An event in its place; `open` while another module may still decide, `event` is nothing once one has."""

    __slots__ = ("event", "open")

    def __init__(self, event: Event) -> None:
        self.event: Event | None = event
        self.open = True


class VerdictStream:
    """The events of one log as they go by."""

    __slots__ = ("_elsewhere", "_held", "_waiting")

    def __init__(self) -> None:
        self._waiting: deque[_Waiting | Event] = deque()
        self._held: dict[_Process, _Waiting] = {}
        self._elsewhere: dict[_Process, datetime | None] = {}  # processes whose passwords another module decides on

    def decided(self, events: Iterable[Event], may_be: Callable[[], bool] = lambda: True, *, last: bool = True) -> Iterator[Event]:
        """Yield the events of a log in their order, of several verdicts on one password the one that counts.

        `may_be` says whether another module may speak soon: where none does nothing waits.  Where these are not the `last`, what may wait
        for others goes on waiting.
        """
        waiting = self._waiting
        for event in events:
            one = self._taken(event, may_be) if (event.module or self._held) and not event.audited else event
            if one is event and not waiting:
                yield event
                continue
            if one is not None:
                waiting.append(one)
            yield from self._released(_MOST_WAITING)
        if last:
            yield from self._released(0)

    @property
    def since(self) -> datetime | None:
        """Since when something waits that was not yielded yet, ``None`` where nothing does."""
        waiting = ((one if isinstance(one, Event) else one.event) for one in self._waiting)
        return earliest(event.at for event in waiting if event is not None)

    @property
    def held(self) -> tuple[Collection[object], Collection[object]]:
        """What waits, and processes of which the next line may decide: while both are empty, what has no module passes as it is."""
        return self._waiting, self._held

    def _released(self, most: int) -> Iterator[Event]:
        """Yield what need not wait any more; of what is still open at most `most` wait."""
        waiting = self._waiting
        while waiting:
            first = waiting[0]
            if isinstance(first, Event):
                yield first
            elif first.open and len(waiting) <= most:
                return
            else:
                first.open = False
                if first.event is not None:
                    yield first.event
            waiting.popleft()

    def _taken(self, event: Event, may_be: Callable[[], bool]) -> "_Waiting | Event | None":
        """Return an event where it counts, held where another module may decide."""
        process = event.host, event.pid
        before = self._held.pop(process, None)
        if before is not None:
            before.open = False
        if not event.module:
            return event
        if event.pid is None:
            return event if event.times else None
        if event.module == _HOST_MODULE:
            if self._is_decided_elsewhere(process, event.at):
                return None
            if not may_be():
                return event
            self._held[process] = found = _Waiting(event)
            if len(self._held) > _MOST_PROCESSES:
                self._held.pop(next(iter(self._held))).open = False
            return found
        if before is not None:
            before.event = None
        self._elsewhere[process] = event.at
        if len(self._elsewhere) > _MOST_PROCESSES:
            del self._elsewhere[next(iter(self._elsewhere))]
        return event if event.times else None

    def _is_decided_elsewhere(self, process: _Process, at: datetime | None) -> bool:
        last = self._elsewhere.get(process)
        return last is not None and at is not None and abs(at - last) <= _LONGEST


# What is kept of a log that goes on.
LASTING = (VerdictStream, _Waiting)
