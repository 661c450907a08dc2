"""What a line of sudo means only with the lines after it: the rest of a long command, and whether it is the end of one.

sudo cuts what is longer than a message of syslog at blanks (sudoers(5), syslog_maxlen).  With log_exit_status it writes a second line when
a command has ended, the first with ``; EXIT=0`` or ``; SIGNAL=TERM`` behind it, which anyone can give as arguments.  A line ends a command
only if that command was begun by a line before and nothing shows that it is begun once more: whatever a user types, no use is lost.
A use waits for the next part of its command a little while alone: sudo writes all parts at once.
"""

from collections import deque
from collections.abc import Callable, Collection, Iterable, Iterator
from datetime import datetime
from hashlib import blake2b

from fidelitas.facts import Event, EventKind
from fidelitas.languages.logs.waiting import earliest, has_waited
from fidelitas.masking import masked

__all__ = ["LASTING", "OF_SUDO", "SudoStream", "key_of"]

# So many events wait for the next line of sudo on their host, and so many commands for their end.
_MOST_WAITING = 1000
_MOST_OPEN = 1000
# So many commands may run, without an end, before ends are missed.
_MOST_RUNNING = 1
# A word that fills a line of sudo's; lines are of some 960 bytes.
_LONG_WORD = 200
OF_SUDO = frozenset({"sudo", "sudo-i"})


class _Waiting:
    """An event in its place, which the next line of sudo on its host may complete; `last` is the part of its command that came last."""

    __slots__ = ("event", "last", "open")

    def __init__(self, event: Event) -> None:
        self.event, self.open, self.last = event, True, ""

    def go_on(self, part: Event) -> None:
        """Add the rest of a command: the blank at which it was cut is gone, and only a word too long for a line is cut in itself."""
        within = len(self.last) > _LONG_WORD and " " not in self.last
        self.last = part.command
        whole = self.event.command + self.event.end + ("" if within else " ") + part.command
        self.event = self.event._replace(command=masked(whole), end=part.end)


class _Host:
    """What one host's lines have shown: the event that waits for the next, commands without an end, whether PAM tells of sessions."""

    __slots__ = ("_begun", "_ends", "_has_sessions", "_uses", "_was_command", "waiting")

    def __init__(self) -> None:
        self.waiting: _Waiting | None = None
        self._begun: dict[bytes, int] = {}
        self._uses = self._ends = 0
        self._has_sessions = self._was_command = False

    def follows(self, event: Event, *, complete: bool) -> None:
        """Take note of what kind of line comes next, before what waits is settled."""
        if event.kind is EventKind.OPENED and self._was_command:
            self._has_sessions = True
        self._was_command = not complete

    def begun(self, event: Event, key: bytes = b"") -> None:
        """Count a use, which may end by a line of its own; a sub-command has none.  `key` is that of the event, where it is known."""
        if event.kind is EventKind.USED and not event.within:
            self._uses += 1
            key = key or key_of(event)
            self._begun[key] = self._begun.pop(key, 0) + 1
            if len(self._begun) > _MOST_OPEN:
                del self._begun[next(iter(self._begun))]

    def settle(self, following: Event | None) -> None:
        """Decide what the event that waits was, now that the next of its host is known."""
        one, self.waiting = self.waiting, None
        if one is None:
            return
        one.open, event = False, one.event
        if event.end:
            begun = self._begun.get(key_of(event), 0)
            self._ends += bool(begun)
            if begun and not self._is_begun_again(following):
                self._begun[key_of(event)] = begun - 1
                one.event = event._replace(kind=EventKind.CLOSED, reason=f"exit {event.end.rpartition('=')[2]}", end="", within=False)
                return
            one.event = event = event._replace(command=event.command + event.end, end="")
        self.begun(event)

    def _is_begun_again(self, following: Event | None) -> bool:
        """Return whether a command is begun that ends as the end of one: PAM opens a session; in a log without PAM ends are rare then."""
        if self._has_sessions:
            return following is not None and following.kind is EventKind.OPENED
        return 2 * self._ends < self._uses - _MOST_RUNNING


class SudoStream:
    """The events of one log as they go by."""

    __slots__ = ("_hosts", "_waiting")

    def __init__(self) -> None:
        self._waiting: deque[_Waiting | Event] = deque()
        self._hosts: dict[str, _Host] = {}

    def settled(
        self, events: Iterable[Event], goes_on: Callable[[], bool] = lambda: True, until: datetime | None = None
    ) -> Iterator[Event]:
        """Yield the events of a log in their order, commands whole, ends distinguished from uses.

        `goes_on` says whether a line that is soon to come can go on with a command: where none does, uses need not wait for it.  Where
        others come later, none before `until`, what may wait for them goes on waiting.
        """
        waiting = self._waiting
        for event in events:
            if event.program in OF_SUDO and not event.audited:
                one = self._taken(event, goes_on)
                if one is None:
                    continue
                if one is event and not waiting:
                    yield event
                    continue
                waiting.append(one)
            elif not waiting:
                yield event
                continue
            else:
                waiting.append(event)
            while waiting and not (self._may_wait(event.at) and len(waiting) <= _MOST_WAITING):
                yield self._release()
        while waiting and not (until is not None and self._may_wait(until)):
            yield self._release()

    @property
    def waiting(self) -> Collection[object]:
        """What waits: while it is empty, `passes` may be asked."""
        return self._waiting

    def passes(self, event: Event, host: str, key: bytes) -> None:
        """Take note of an event of a host which neither waits nor completes another; `key` is that of the event."""
        one = self._hosts.get(host)
        if one is None:
            one = self._hosts[host] = _Host()
        complete = event.kind is EventKind.OPENED or event.kind is EventKind.CLOSED
        one.follows(event, complete=complete)
        if not complete:
            one.begun(event, key)

    def _may_wait(self, now: datetime | None) -> bool:
        first = self._waiting[0]
        return first.__class__ is _Waiting and first.open and (first.event.end != "" or not has_waited(first.event.at, now))

    @property
    def since(self) -> datetime | None:
        """Since when something waits that was not yielded yet, ``None`` where nothing does."""
        return earliest(one.at if isinstance(one, Event) else one.event.at for one in self._waiting)

    def _taken(self, event: Event, goes_on: Callable[[], bool]) -> "_Waiting | Event | None":
        """Return an event of sudo, where it must wait for the next as that; nothing of one that was only a part of the one before."""
        host = self._hosts.get(event.host)
        if host is None:
            host = self._hosts[event.host] = _Host()
        before = host.waiting
        if event.part:
            if before is not None and before.event.account == event.account and event.pid in (None, before.event.pid):
                before.go_on(event)
            return None
        complete = (event.kind is EventKind.OPENED or event.kind is EventKind.CLOSED) and not event.end
        host.follows(event, complete=complete)
        if before is not None:
            host.settle(event)
        if complete:
            return event
        if not event.end and not goes_on():
            host.begun(event)
            return event
        host.waiting = found = _Waiting(event)
        return found

    def _release(self) -> Event:
        one = self._waiting.popleft()
        if isinstance(one, Event):
            return one
        if one.open:
            self._hosts[one.event.host].settle(None)
        return one.event


def key_of(event: Event) -> bytes:
    """Return what stands for who runs what where: of a digest that nobody can find another command for."""
    text = f"{event.account}\0{event.target}\0{event.terminal}\0{event.folder}\0{event.command}"
    return blake2b(text.encode("utf-8", "surrogateescape"), digest_size=12).digest()


# What is kept of a log that goes on.
LASTING = (SudoStream, _Host, _Waiting)
