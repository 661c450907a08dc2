"""A log of syslog, line by line into events.

Keeps what a line alone does not tell: the year.  What programs say repeats itself: of each message what it tells is worked out once.
"""

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from functools import partial

from fidelitas.facts import Event, EventKind, Place
from fidelitas.languages.logs.clock import Clock, has_year
from fidelitas.languages.logs.entries import SUDO, Idle, Line, lines_that_matter
from fidelitas.languages.logs.journal_fields import Names
from fidelitas.languages.logs.messages import idle_beginnings, is_part, read_message
from fidelitas.languages.logs.pulse import Pulse
from fidelitas.languages.logs.repetition import REPEATED, once, repeated
from fidelitas.languages.logs.sudo_lines import read_sudo_line
from fidelitas.languages.logs.sudo_stream import settled
from fidelitas.text import decode

__all__ = ["SyslogReader"]

# So many messages are remembered, of at most so many bytes each; a log made of ever new ones costs time, not memory.
_MOST, _LONGEST = 10_000, 1000
_OPENED_BY_NUMBER = re.compile(rb" by \(uid=\d+\)\s*\Z")
# What a message tells, by what stands in it: the fields of an event; nothing; or, for one of no known form, the program.
_Told = tuple[object, ...] | str | None


class SyslogReader:
    """Reads one log; `unknown` counts the messages of no known form, by program, `pulse` all lines that matter, by time."""

    def __init__(self, clock: Clock, origin: Place, pulse: Pulse | None = None, names: Mapping[int, str] | None = None) -> None:
        self._clock = clock
        self._origin = origin
        self._known: dict[tuple[bytes, bytes, bytes], _Told] = {}
        self._pulse = pulse or Pulse()
        self._names = Names(names or {})
        self.unknown: Counter[str] = Counter()

    def events(self, blocks: Iterable[bytes]) -> Iterator[Event]:
        """Yield the events of blocks of whole lines, in their order."""
        return settled(self._events(blocks))

    def _events(self, blocks: Iterable[bytes]) -> Iterator[Event]:
        known, make = self._known, tuple.__new__
        subject, path, _, _ = self._origin
        idle = Idle(idle_beginnings(), lambda stamp, count: self._pulse.many(self._clock.near(stamp.decode()), count))
        for line in self._timed(lines_that_matter(blocks, idle)):
            number, stamp, host, program, pid, message = line
            told = known.get((host, program, message), "")
            if told == "":
                told = self._told(line)
            if told.__class__ is tuple:
                at = self._clock.read(stamp.decode())
                event = make(Event, (at, Place(subject, path, number), int(pid) if 0 < len(pid) < 10 else None, *told))
                yield from repeated(event, decode(message)) if message.startswith(REPEATED) else (event,)
            elif told is not None:
                self.unknown[str(told)] += 1

    def _timed(self, lines: Iterable[Line]) -> Iterator[Line]:
        """Pass on the lines and feel their pulse: within an hour stamps are ordered as their texts are."""
        hour, before, same, size = b"", b"", 0, 13
        for line in lines:
            stamp = line.stamp
            if stamp[:size] == hour and stamp >= before:
                same += 1
            else:
                self._pulse.more(same, self._clock.read(before.decode()) if before else None)
                self._pulse.beat(self._clock.read(stamp.decode()), line.number)
                same, size = 0, 13 if has_year(stamp.decode()) else 9
                hour = stamp[:size]
            before = stamp
            yield line
        self._pulse.more(same, self._clock.read(before.decode()) if before else None)

    def _told(self, line: Line) -> _Told:
        """Work out what a message tells, and remember it."""
        told = self._read(line) if not line.message.startswith(idle_beginnings()) else None
        if told.__class__ is tuple and _OPENED_BY_NUMBER.search(line.message):
            return told  # whose number it is may be learned later
        if len(self._known) >= _MOST:
            self._known.clear()
        if len(line.message) <= _LONGEST:
            self._known[line.host, line.program, line.message] = told
        return told

    def _read(self, line: Line) -> _Told:
        host, program, message = decode(line.host), line.program.decode(), once(decode(line.message).rstrip("\r").lstrip(" "))
        event = read_sudo_line(message, None, host, self._origin) if program in SUDO else None
        if event is None:
            event = read_message(program, message, partial(Event, at=None, host=host, place=self._origin, pid=None))
        if event is None:
            return None if is_part(message) else program
        if event.kind is EventKind.OPENED:  # of no other message: a user can type such pairs
            self._names.learn(host, message)
            if not event.account:
                event = event._replace(account=self._names.opener(host, event.program, message))
        return event.dedup_key
