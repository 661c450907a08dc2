"""The journal, as journalctl(1) exports it: JSON lines (``-o json``) and the export format (``-o export``).

Follows JOURNAL_EXPORT_FORMATS of systemd.io.
"""

import json
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime
from functools import partial
from typing import Any

from fidelitas.facts import Event, Gap, Place
from fidelitas.languages.logs.entries import PROGRAMS, Entry
from fidelitas.languages.logs.messages import is_idle, is_part, read_message
from fidelitas.languages.logs.sudo_lines import read_sudo_line
from fidelitas.text import decode

__all__ = ["JournalReader", "is_export", "is_journal_json"]

_PROGRAMS = frozenset(PROGRAMS)
_LONGEST = 1 << 20  # bytes of a field


def is_journal_json(start: bytes) -> bool:
    """Return whether a file that begins so holds journal entries in JSON."""
    return start.lstrip().startswith(b"{") and b"__REALTIME_TIMESTAMP" in start


def is_export(start: bytes) -> bool:
    """Return whether a file that begins so is in the export format."""
    return start.startswith((b"__CURSOR=", b"__REALTIME_TIMESTAMP="))


class JournalReader:
    """Reads one export; places count its lines."""

    def __init__(self, origin: Place) -> None:
        self._origin = origin
        self.gaps: list[Gap] = []
        self.unknown: Counter[str] = Counter()

    def json_events(self, blocks: Iterable[bytes]) -> Iterator[Event]:
        """Yield the events of JSON lines; lines of other programs are not even parsed."""
        number = 0
        for block in blocks:
            for line in block.split(b"\n"):
                number += 1
                if b"SYSLOG_IDENTIFIER" in line:
                    yield from self._line(line, number)
            number -= 1 if block.endswith(b"\n") else 0

    def _line(self, line: bytes, number: int) -> Iterator[Event]:
        try:
            stated = json.loads(line)
        except (ValueError, RecursionError) as error:
            self._gap(f"not JSON: {error}", number)
            return
        if isinstance(stated, dict):
            yield from self._entry({name: _value(value) for name, value in stated.items()}, number)

    def export_events(self, content: bytes) -> Iterator[Event]:
        """Yield the events of the export format: ``NAME=value`` lines, or a name, eight bytes of length and as many of value."""
        at, line, begun = 0, 1, 1
        fields: dict[str, str] = {}
        while at < len(content):
            end = content.find(b"\n", at)
            end = len(content) if end < 0 else end
            name, equals, value = content[at:end].partition(b"=")
            if not name:
                yield from self._entry(fields, begun)
                fields, begun = {}, line + 1
                at, line = end + 1, line + 1
                continue
            if not equals:
                size = int.from_bytes(content[end + 1 : end + 9], "little")
                if size > _LONGEST or end + 9 + size > len(content):
                    self._gap("a field is longer than the file or than 1 MiB", line)
                    return
                value, end = content[end + 9 : end + 9 + size], end + 9 + size
                line += 1 + value.count(b"\n")
            fields[decode(name)] = decode(value)
            at, line = end + 1, line + 1
        yield from self._entry(fields, begun)

    def _entry(self, fields: Mapping[str, str], number: int) -> Iterator[Event]:
        program = fields.get("SYSLOG_IDENTIFIER", "")
        if program not in _PROGRAMS:
            return
        host, message = fields.get("_HOSTNAME", ""), fields.get("MESSAGE", "")
        pid = fields.get("_PID") or fields.get("SYSLOG_PID", "")
        at, place = _time(fields), self._origin.at(number)
        event = read_sudo_line(message, at, host, place) if program == "sudo" else None
        if event is None:
            entry = Entry(number, "", host, program, int(pid) if pid.isdecimal() and len(pid) < 10 else None, message)
            event = read_message(entry, partial(Event, at=at, host=host, place=place))
        if event is not None:
            yield event
        elif not is_idle(message) and not is_part(message):
            self.unknown[program] += 1

    def _gap(self, why: str, line: int) -> None:
        self.gaps.append(Gap(what="journal entry", why=why, weakens="what it tells is not known", place=self._origin.at(line)))


def _value(value: Any) -> str:
    """Return a field as text: bytes that are not UTF-8 come as a list of numbers, what was too long as null."""
    if isinstance(value, list) and all(isinstance(one, int) and 0 <= one < 256 for one in value):
        return decode(bytes(value))
    if isinstance(value, list):
        return _value(value[-1]) if value else ""
    return value if isinstance(value, str) else ""


def _time(fields: Mapping[str, str]) -> datetime | None:
    text = fields.get("_SOURCE_REALTIME_TIMESTAMP") or fields.get("__REALTIME_TIMESTAMP", "")
    if not text.isdecimal() or len(text) > 17:
        return None
    return datetime.fromtimestamp(int(text) / 1e6, UTC)
