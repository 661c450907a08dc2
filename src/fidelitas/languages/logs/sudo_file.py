"""sudo's own log file: wrapped or long lines, and JSON (sudoers(5), LOG FORMAT; the options logfile, loglinelen and log_format)."""

import json
import re
from collections.abc import Iterable, Iterator
from datetime import datetime
from enum import Enum
from itertools import chain
from typing import Any

from fidelitas.facts import Event, Gap, Place
from fidelitas.languages.logs.clock import Clock
from fidelitas.languages.logs.sudo_lines import read_sudo_event, read_sudo_line
from fidelitas.languages.logs.sudo_stream import SudoStream
from fidelitas.languages.logs.waiting import earliest, has_waited
from fidelitas.text import decode

__all__ = ["LASTING", "SudoFileReader", "is_sudo_file", "tells_calls"]

_BEGINS = re.compile(r"(?P<stamp>[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d)(?: (?P<year>\d{4}))? : (?P<rest>.*)\Z", re.DOTALL)
# The indentation is sudo's own, and the text of a value cannot begin a line: JSON has no line breaks in strings.
_OPENS = re.compile(r'    "(accept|reject|alert|exit)": \{\s*\Z')
_CLOSES = re.compile(r"    \},?\s*\Z")
_LONGEST = 100_000  # lines of one JSON event


def is_sudo_file(start: bytes) -> bool:
    """Return whether a log that begins so is sudo's own."""
    text = decode(start).lstrip()
    if text.startswith("{"):
        return re.match(r'\{\s*"(accept|reject|alert|exit)"', text) is not None
    return _BEGINS.match(text.partition("\n")[0]) is not None


def tells_calls(start: bytes) -> bool:
    """Return whether the times of a log that begins so are those at which sudo was called, before it asked for a password."""
    return is_sudo_file(start) and not decode(start).lstrip().startswith("{")


class _Form(Enum):
    UNKNOWN = 0
    TEXT = 1
    LINES = 2  # of JSON
    OBJECT = 3


def _form_of(first: str) -> _Form:
    if not first.startswith("{"):
        return _Form.TEXT
    return _Form.LINES if first.rstrip().endswith("}") else _Form.OBJECT


class SudoFileReader:
    """Reads one file; what was given up is in `gaps`."""

    def __init__(self, clock: Clock, origin: Place) -> None:
        self._clock = clock
        self._origin = origin
        self.gaps: list[Gap] = []
        self._form = _Form.UNKNOWN
        self._held: tuple[int, str] | None = None  # a line that the next may go on with
        self._held_since: datetime | None = None
        self._sudo = SudoStream()

    @property
    def lasting(self) -> tuple[object, ...] | None:
        """What is known at the end of blocks that were not the last, for another reader to go on with; not of one object of all events."""
        return None if self._form is _Form.OBJECT else (self._clock.lasting, self._form, self._held, self._sudo, self.gaps)

    @lasting.setter
    def lasting(self, known: tuple[Any, ...]) -> None:
        self._clock.lasting, self._form, self._held, self._sudo, self.gaps = known

    def events(self, blocks: Iterable[bytes], after: int = 0, until: datetime | None = None) -> Iterator[Event]:
        """Yield the events of blocks of whole lines, which come after a number of others.

        Where others come later, of no time before `until`, what may wait for them goes on waiting.
        """
        texts = (line for block in blocks for line in decode(block).split("\n")[: -1 if block.endswith(b"\n") else None])
        lines: Iterator[tuple[int, str]] = enumerate(texts, after + 1)
        if self._form is _Form.UNKNOWN:
            first = next(lines, None)
            if first is None:
                return
            self._form, lines = _form_of(first[1]), chain([first], lines)
        if self._form is _Form.TEXT:
            yield from self._sudo.settled(self._text(lines, until), until=until)
        else:
            yield from self._objects(lines) if self._form is _Form.LINES else self._properties(lines)

    def _text(self, lines: Iterator[tuple[int, str]], until: datetime | None) -> Iterator[Event]:
        """Lines that begin with four blanks go on with the one before, which was broken at a blank."""
        for number, line in lines:
            held = self._held
            if held is not None and line.startswith("    "):
                self._held = held[0], f"{held[1]} {line[4:]}"
                continue
            self._held = number, line
            if held is not None:
                yield from self._line(*held)
        if self._held is not None:
            events = list(self._line(*self._held))
            if until is None or all(has_waited(event.at, until) for event in events):
                self._held = None
                yield from events
            else:
                self._held_since = earliest(event.at for event in events)

    @property
    def since(self) -> datetime | None:
        """Since when something waits for lines that come later, ``None`` where nothing does."""
        return earliest(at for at in (self._held_since if self._held else None, self._sudo.since) if at is not None)

    def _line(self, number: int, text: str) -> Iterator[Event]:
        found = _BEGINS.match(text)
        if found is None:
            if text.strip():
                self._gap("expected a time", number)
            return
        stamp = found["stamp"]
        at = self._clock.read(f"{found['year']}-{_month(stamp)}T{stamp[7:]}" if found["year"] else stamp)
        event = read_sudo_line(found["rest"])
        if event is not None:
            yield event.stamped(at, self._origin.at(number), None, "")
        else:
            self._gap("not in sudo's form", number)

    def _objects(self, lines: Iterator[tuple[int, str]]) -> Iterator[Event]:
        """An object a line."""
        for number, line in lines:
            yield from self._object(number, line) if line.strip() else ()

    def _properties(self, lines: Iterator[tuple[int, str]]) -> Iterator[Event]:
        """One object of all events, a property each."""
        for number, line in lines:
            opened = _OPENS.match(line)
            if opened is not None:
                held = ["{"]
                for _, inner in lines:
                    held.append("}" if _CLOSES.match(inner) else inner)
                    if _CLOSES.match(inner) or len(held) > _LONGEST:
                        break
                yield from self._object(number, f'{{"{opened[1]}": {" ".join(held)}}}')

    def _object(self, number: int, text: str) -> Iterator[Event]:
        try:
            stated = json.loads(text)
        except (ValueError, RecursionError) as error:
            self._gap(f"not JSON: {error}", number)
            return
        event = read_sudo_event(stated) if isinstance(stated, dict) else None
        if event is not None:
            yield event.stamped(None, self._origin.at(number), None, "")

    def _gap(self, why: str, line: int) -> None:
        self.gaps.append(Gap(what="line of sudo's log", why=why, weakens="one use of sudo is not known", place=self._origin.at(line)))


def _month(stamp: str) -> str:
    months = "JanFebMarAprMayJunJulAugSepOctNovDec"
    return f"{months.find(stamp[:3]) // 3 + 1:02}-{int(stamp[4:6]):02}"


# What is kept of a log that goes on.
LASTING = (_Form,)
