"""sudo's own log file: wrapped or long lines, and JSON (sudoers(5), LOG FORMAT; the options logfile, loglinelen and log_format)."""

import json
import re
from collections.abc import Iterable, Iterator

from fidelitas.facts import Event, Gap, Place
from fidelitas.languages.logs.clock import Clock
from fidelitas.languages.logs.sudo_lines import read_sudo_event, read_sudo_line
from fidelitas.languages.logs.sudo_stream import settled
from fidelitas.text import decode

__all__ = ["SudoFileReader", "is_sudo_file", "tells_calls"]

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


class SudoFileReader:
    """Reads one file; what was given up is in `gaps`."""

    def __init__(self, clock: Clock, origin: Place) -> None:
        self._clock = clock
        self._origin = origin
        self.gaps: list[Gap] = []

    def events(self, blocks: Iterable[bytes]) -> Iterator[Event]:
        """Yield the events of blocks of whole lines."""
        lines = enumerate((line for block in blocks for line in decode(block).split("\n")[: -1 if block.endswith(b"\n") else None]), 1)
        first = next(lines, None)
        if first is None:
            return
        if first[1].startswith("{"):
            yield from self._json(first, lines)
        else:
            yield from settled(self._text(first, lines))

    def _text(self, first: tuple[int, str], lines: Iterator[tuple[int, str]]) -> Iterator[Event]:
        """Lines that begin with four blanks go on with the one before, which was broken at a blank."""
        at, held = first
        for number, line in lines:
            if line.startswith("    "):
                held += " " + line[4:]
                continue
            yield from self._line(at, held)
            at, held = number, line
        yield from self._line(at, held)

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

    def _json(self, first: tuple[int, str], lines: Iterator[tuple[int, str]]) -> Iterator[Event]:
        """Either one object of all events, a property each, or an object a line."""
        if first[1].rstrip().endswith("}"):
            yield from self._object(first[0], first[1])
            for number, line in lines:
                yield from self._object(number, line) if line.strip() else ()
            return
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
