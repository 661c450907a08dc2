"""The journal, as journalctl(1) exports it: JSON lines (``-o json``) and the export format (``-o export``).

Follows JOURNAL_EXPORT_FORMATS of systemd.io.
"""

import json
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime
from io import BufferedReader, RawIOBase
from typing import Any

import msgspec

from fidelitas.facts import Event, EventKind, Gap, Place
from fidelitas.languages.logs.entries import PROGRAMS
from fidelitas.languages.logs.journal_fields import Names, impostor
from fidelitas.languages.logs.repetition import once, repeated
from fidelitas.languages.logs.shares import WHOLE, Share
from fidelitas.languages.logs.sudo_stream import settled
from fidelitas.languages.logs.told import Told
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
    """Reads one export, in the export format or as JSON; places count its lines."""

    def __init__(self, origin: Place, names: Mapping[int, str] | None = None, *, export: bool = False, share: Share = WHOLE) -> None:
        self._origin = origin
        self._names = Names(names or {})
        self._export = export
        self._share = share
        self._told = Told()
        self.gaps: list[Gap] = []
        self.unknown: Counter[str] = Counter()

    def events(self, blocks: Iterable[bytes]) -> Iterator[Event]:
        """Yield the events of an export."""
        return settled(self._export_events(blocks) if self._export else self._json_events(blocks))

    def _json_events(self, blocks: Iterable[bytes]) -> Iterator[Event]:
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
            entry = _loaded(line)
        except (ValueError, RecursionError) as error:
            self._gap(f"not JSON: {error}", number)
            return
        if entry is not None and _value(entry.syslog_identifier) in _PROGRAMS:
            yield from self._entry({field: text for name, field in _ATTRIBUTES.items() if (text := _value(getattr(entry, name)))}, number)

    def _export_events(self, blocks: Iterable[bytes]) -> Iterator[Event]:
        """Yield the events of the export format: ``NAME=value`` lines, or a name, eight bytes of length and as many of value."""
        stream, line, begun = BufferedReader(_Stream(blocks)), 1, 1
        fields: dict[str, str] = {}
        while text := stream.readline(_LONGEST):
            line += 1
            name, equals, value = text.rstrip(b"\n").partition(b"=")
            if not name:
                yield from self._entry(fields, begun)
                fields, begun = {}, line
                continue
            if not equals:
                size = int.from_bytes(stream.read(8), "little")
                value = stream.read(size + 1) if size <= _LONGEST else b""
                if len(value) != size + 1:
                    self._gap("a field is longer than the file or than 1 MiB", line - 1)
                    return
                line += 1 + value.count(b"\n", 0, size)
                value = value[:size]
            fields[decode(name)] = decode(value)
        yield from self._entry(fields, begun)

    def _entry(self, fields: Mapping[str, str], number: int) -> Iterator[Event]:
        program = fields.get("SYSLOG_IDENTIFIER", "")
        if program not in _PROGRAMS:
            return
        host, whole = fields.get("_HOSTNAME", ""), fields.get("MESSAGE", "")
        message = once(whole)
        pid = fields.get("_PID") or fields.get("SYSLOG_PID", "")
        at, place = _time(fields), self._origin.at(number)
        event = self._told.event(program, whole)
        if event.__class__ is Event:
            doubt = event.doubt or impostor(program, fields)
            if event.kind is EventKind.OPENED and not doubt:  # of no other message: a user can type such pairs
                self._names.learn(host, message)
            if event.kind is EventKind.OPENED and not event.account:
                event = event._replace(account=self._names.opener(host, event.program, message))
            process = int(pid) if pid.isdecimal() and len(pid) < 10 else None
            login = self._names.login(host, fields.get("_AUDIT_LOGINUID", ""), event.account)
            told = event.stamped(at, place, process, host)._replace(login=login, doubt=doubt)
            yield from repeated(told, whole) if whole is not message else (told,)
        elif not event and self._share.has(host):
            self.unknown[program] += 1

    def _gap(self, why: str, line: int) -> None:
        self.gaps.append(Gap(what="journal entry", why=why, weakens="its content is not known", place=self._origin.at(line)))


# The fields of an entry that are looked at; a value is text, a list of bytes or of values, or null.
_FIELDS = (
    "SYSLOG_IDENTIFIER", "MESSAGE", "SYSLOG_PID", "_HOSTNAME", "_PID", "_UID", "_COMM", "_EXE", "_CAP_EFFECTIVE", "_AUDIT_LOGINUID",
    "_SOURCE_REALTIME_TIMESTAMP", "__REALTIME_TIMESTAMP",
)  # fmt: skip
_ATTRIBUTES = {name.lstrip("_").lower(): name for name in _FIELDS}
_Entry = msgspec.defstruct("_Entry", [(name, Any, "") for name in _ATTRIBUTES], rename=_ATTRIBUTES)
_decoded = msgspec.json.Decoder(_Entry).decode


def _loaded(line: bytes) -> Any:
    """Return an entry; nothing of a line that holds something else."""
    try:
        return _decoded(line)
    except msgspec.MsgspecError:  # it is stricter than others about text that is no Unicode, and than this about what is no entry
        stated = json.loads(line)
        return (
            _Entry(**{name: stated[field] for name, field in _ATTRIBUTES.items() if field in stated}) if isinstance(stated, dict) else None
        )


def _value(value: Any) -> str:
    """Return a field as text: bytes that are not UTF-8 come as a list of numbers, what was too long as null."""
    if value.__class__ is str:
        return value
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


class _Stream(RawIOBase):
    """Blocks as a stream."""

    def __init__(self, blocks: Iterable[bytes]) -> None:
        super().__init__()
        self._blocks, self._rest = iter(blocks), b""

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        if not self._rest:
            self._rest = next(self._blocks, b"")
        part = self._rest[: len(buffer)]
        buffer[: len(part)] = part
        self._rest = self._rest[len(part) :]
        return len(part)
