"""What a line of sudo tells only with the lines after it: the rest of a long command, and whether it is the end of one.

sudo cuts what is longer than a message of syslog at blanks (sudoers(5), syslog_maxlen).  With log_exit_status it writes a second line when
a command has ended, the first with ``; EXIT=0`` or ``; SIGNAL=TERM`` behind it, which anyone can give as arguments.  A line ends a command
only if that command was begun by a line before and nothing shows that it is begun once more: whatever a user types, no use is lost.
"""

from collections import deque
from collections.abc import Iterable, Iterator

from fidelitas.facts import Event, EventKind
from fidelitas.masking import masked

__all__ = ["settled"]

# So many events wait for the next line of sudo on their host, and so many commands for their end.
_MOST_WAITING = 1000
_MOST_OPEN = 10_000
# A word that fills a line of sudo's; lines are of some 960 bytes.
_LONG_WORD = 200
_OF_SUDO = frozenset({"sudo", "sudo-i"})


def settled(events: Iterable[Event]) -> Iterator[Event]:
    """Yield the events of one log in their order, commands whole, ends told from uses."""
    return _Stream().settled(events)


class _Waiting:
    """An event in its place, which the next line of sudo on its host may complete; `last` is the part of its command that came last."""

    __slots__ = ("event", "last", "open")

    def __init__(self, event: Event, *, open_: bool) -> None:
        self.event, self.open, self.last = event, open_, ""


class _Stream:
    def __init__(self) -> None:
        self._waiting: deque[_Waiting] = deque()
        self._by_host: dict[str, _Waiting] = {}
        self._begun: dict[object, int] = {}

    def settled(self, events: Iterable[Event]) -> Iterator[Event]:
        waiting = self._waiting
        for event in events:
            if event.program in _OF_SUDO:
                if self._take(event):
                    continue
            elif not waiting:
                yield event
                continue
            else:
                waiting.append(_Waiting(event, open_=False))
            while waiting and (not waiting[0].open or len(waiting) > _MOST_WAITING):
                yield self._release()
        while waiting:
            yield self._release()

    def _take(self, event: Event) -> bool:
        """Put an event of sudo in its place; return whether it was only a part of the one before."""
        before = self._by_host.get(event.host)
        if event.part:
            if before is not None and before.event.account == event.account and event.pid in (None, before.event.pid):
                self._go_on(before, event)
            return True
        if before is not None:
            self._settle(before, event)
        complete = event.kind in (EventKind.OPENED, EventKind.CLOSED) and not event.end
        self._waiting.append(found := _Waiting(event, open_=not complete))
        if not complete:
            self._by_host[event.host] = found
        return False

    @staticmethod
    def _go_on(before: _Waiting, part: Event) -> None:
        """Add the rest of a command: the blank at which it was cut is gone, and only a word too long for a line is cut in itself."""
        within = len(before.last) > _LONG_WORD and " " not in before.last
        before.last = part.command
        whole = before.event.command + before.event.end + ("" if within else " ") + part.command
        before.event = before.event._replace(command=masked(whole), end=part.end)

    def _settle(self, one: _Waiting, following: Event | None) -> None:
        """Decide what an event was, now that the next of its host is known."""
        one.open = False
        self._by_host.pop(one.event.host, None)
        event = one.event
        if event.end:
            begun = self._begun.get(_key(event), 0)
            again = following is not None and following.kind is EventKind.OPENED
            if begun and not again:
                self._begun[_key(event)] = begun - 1
                one.event = event._replace(kind=EventKind.CLOSED, reason=f"exit {event.end.rpartition('=')[2]}", end="")
                return
            one.event = event = event._replace(command=event.command + event.end, end="")
        if event.kind is EventKind.USED:
            self._begin(_key(event))

    def _begin(self, key: object) -> None:
        self._begun[key] = self._begun.pop(key, 0) + 1
        if len(self._begun) > _MOST_OPEN:
            del self._begun[next(iter(self._begun))]

    def _release(self) -> Event:
        one = self._waiting.popleft()
        if one.open:
            self._settle(one, None)
        return one.event


def _key(event: Event) -> object:
    return event.host, event.account, event.target, event.terminal, event.folder, event.command
