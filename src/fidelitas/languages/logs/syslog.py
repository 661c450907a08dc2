"""A log of syslog, line by line into events.

Keeps what a line alone does not tell: the year, and the names of user IDs.
"""

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping

from fidelitas.facts import Event, EventKind, Place
from fidelitas.languages.logs.clock import Clock
from fidelitas.languages.logs.entries import Idle, lines_that_matter
from fidelitas.languages.logs.journal_fields import Names
from fidelitas.languages.logs.messages import idle_beginnings
from fidelitas.languages.logs.pulse import Pulse
from fidelitas.languages.logs.repetition import REPEATED, once, repeated
from fidelitas.languages.logs.shares import WHOLE, Share
from fidelitas.languages.logs.sudo_stream import settled
from fidelitas.languages.logs.told import Told
from fidelitas.text import decode

__all__ = ["SyslogReader"]

_MOST_HOSTS = 10_000


class SyslogReader:
    """Reads one log; `unknown` counts the messages of no known form, by program, `pulse` all lines that matter, by time."""

    def __init__(
        self, clock: Clock, origin: Place, pulse: Pulse | None = None, names: Mapping[int, str] | None = None, share: Share = WHOLE
    ) -> None:
        """`share` is whose lines are read; of all others no more than when they were written."""
        self._clock = clock
        self._origin = origin
        self._told = Told()
        self._pulse = pulse or Pulse()
        self._names = Names(names or {})
        self._share = share
        self._hosts: dict[bytes, tuple[str, bool]] = {}
        self.unknown: Counter[str] = Counter()

    def events(self, blocks: Iterable[bytes]) -> Iterator[Event]:
        """Yield the events of blocks of whole lines, in their order."""
        return settled(self._events(blocks))

    def _events(self, blocks: Iterable[bytes]) -> Iterator[Event]:
        told, read, beat, hosts, make = self._told.event, self._clock.read, self._pulse.beat, self._hosts, tuple.__new__
        subject, path, _, _ = self._origin
        idle = Idle(idle_beginnings(), lambda stamp, count: self._pulse.many(self._clock.near(stamp.decode()), count))
        for number, stamp, host, program, pid, message in lines_that_matter(blocks, idle):
            at = read(stamp.decode())
            beat(at, number)
            name, is_ours = hosts.get(host) or self._host(host)
            if not is_ours and b"HOST=" not in message and b"submithost" not in message:
                continue  # a line of sudo can name another host than its own
            event = told(program, message)
            if event.__class__ is Event:
                place = make(Place, (subject, path, number, None))
                event = event.stamped(at, place, int(pid) if 0 < len(pid) < 10 else None, name)
                if event.kind is EventKind.OPENED:
                    event = self._opened(event, decode(message))
                if message.startswith(REPEATED):
                    yield from repeated(event, decode(message))
                else:
                    yield event
            elif not event:
                self.unknown[program.decode()] += 1

    def _host(self, written: bytes) -> tuple[str, bool]:
        """Return a host's name, and whether its lines are of our share."""
        name = decode(written)
        if len(self._hosts) >= _MOST_HOSTS:
            self._hosts.clear()
        found = self._hosts[written] = name, self._share.has(name)
        return found

    def _opened(self, event: Event, message: str) -> Event:
        """Learn names from what PAM says of a session, and from nothing else: a user can type such pairs."""
        message = once(message.strip(" \r"))
        self._names.learn(event.host, message)
        return event if event.account else event._replace(account=self._names.opener(event.host, event.program, message))
