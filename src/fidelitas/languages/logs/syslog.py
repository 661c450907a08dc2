"""A log of syslog, line by line into events.

Keeps what a line alone does not tell: the year, and the first part of a command that sudo had to cut into several lines.
"""

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import replace
from functools import partial

from fidelitas.facts import Event, Place
from fidelitas.languages.logs.clock import Clock
from fidelitas.languages.logs.entries import Entry, read_entries
from fidelitas.languages.logs.messages import idle_beginnings, is_part, read_message
from fidelitas.languages.logs.secrets import masked
from fidelitas.languages.logs.sudo_lines import continued, read_sudo_line

__all__ = ["SyslogReader"]


class SyslogReader:
    """Reads one log; `unknown` counts the messages of no known form, by program."""

    def __init__(self, clock: Clock, origin: Place) -> None:
        self._clock = clock
        self._origin = origin
        self._held: Event | None = None
        self.unknown: Counter[str] = Counter()

    def events(self, blocks: Iterable[bytes]) -> Iterator[Event]:
        """Yield the events of blocks of whole lines, in their order."""
        for entry in read_entries(blocks, idle_beginnings()):
            yield from self._take(entry)
        yield from self._let_go()

    def _take(self, entry: Entry) -> Iterator[Event]:
        if entry.program == "sudo" and self._held is not None:
            more = continued(entry.message)
            if more is not None and more[0] == self._held.account:
                self._held = replace(self._held, command=masked(self._held.command + more[1]))
                return
        event = self._event(entry)
        if event is None:
            return
        yield from self._let_go()
        if event.program == "sudo" and event.command:
            self._held = event  # the next line may go on with it
        else:
            yield event

    def _let_go(self) -> Iterator[Event]:
        if self._held is not None:
            yield self._held
        self._held = None

    def _event(self, entry: Entry) -> Event | None:
        at = self._clock.read(entry.stamp)
        place = self._origin.at(entry.line)
        event = read_sudo_line(entry.message, at, entry.host, place) if entry.program == "sudo" else None
        if event is None:
            event = read_message(entry, partial(Event, at=at, host=entry.host, place=place))
        if event is None and not is_part(entry.message):
            self.unknown[entry.program] += 1
        return event
