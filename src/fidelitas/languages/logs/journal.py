"""The journal, as journalctl(1) exports it: as JSON, in the export format (``-o export``), or for readers (``-o verbose``).

Follows JOURNAL_EXPORT_FORMATS of systemd.io.
"""

import json
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime, tzinfo
from enum import Enum
from io import BufferedReader, RawIOBase
from typing import Any

import msgspec

from fidelitas.facts import Event, EventKind, Gap, Place, is_ordinary_login
from fidelitas.languages.logs.audit_within import AuditWithin
from fidelitas.languages.logs.counted import Counted
from fidelitas.languages.logs.entries import whole_lines
from fidelitas.languages.logs.envelopes import plain_stamp
from fidelitas.languages.logs.handed_on import HandedOnStream
from fidelitas.languages.logs.journal_fields import Names, impostor, pairs_of
from fidelitas.languages.logs.journal_objects import Objects
from fidelitas.languages.logs.pam_verdicts import VerdictStream
from fidelitas.languages.logs.pulse import Pulse
from fidelitas.languages.logs.repetition import once, repeated
from fidelitas.languages.logs.shares import WHOLE, OfShare, Share
from fidelitas.languages.logs.stamps import microseconds
from fidelitas.languages.logs.sudo_stream import SudoStream
from fidelitas.languages.logs.told import OF_SSHD, Told, without_port
from fidelitas.languages.logs.unread import Unread
from fidelitas.languages.logs.waiting import earliest
from fidelitas.recorded import JOURNAL_FIELDS, OF_AUDIT, PROGRAMS
from fidelitas.text import decode

__all__ = ["JournalForm", "JournalReader", "is_export", "is_verbose"]

_KERNELS = "audit"  # the transport of what the kernel's audit system says itself
_PROGRAMS = frozenset((*PROGRAMS, *OF_AUDIT))
_LONGEST = 1 << 20  # bytes of a field
_ENTRY, _IDENTIFIER = b'{"', b"SYSLOG_IDENTIFIER"
_HEAD = re.compile(rb"([A-Z][a-z]{2} \d{4}-\d\d-\d\d \d\d:\d\d:\d\d(?:\.\d{1,9})? [A-Za-z0-9+-]{1,9}) \[s=[0-9a-f]{1,32};")
_FIELD = re.compile(rb"    ([A-Z_][A-Z0-9_]{0,63})=(.*)", re.DOTALL)  # the lines of a field that go on are further in
_AFTER_ACCOUNT, _LOGIN = Event._fields.index("account") + 1, Event._fields.index("login")


def is_export(start: bytes) -> bool:
    """Return whether a file that begins so is in the export format."""
    return start.startswith((b"__CURSOR=", b"__REALTIME_TIMESTAMP="))


def is_verbose(start: bytes) -> bool:
    """Return whether a file that begins so has entries as they are shown to readers, with all their fields."""
    return _HEAD.match(start) is not None


class JournalForm(Enum):
    """How entries are written."""

    JSON = "json"
    EXPORT = "export"
    VERBOSE = "verbose"


class JournalReader:
    """Reads one export, in one of its forms; places count its lines."""

    def __init__(
        self,
        origin: Place,
        names: Names | None = None,
        *,
        form: JournalForm = JournalForm.JSON,
        zone: tzinfo = UTC,
        share: Share = WHOLE,
        pulse: Pulse | None = None,
        counted: Counted | None = None,
    ) -> None:
        """`zone` is that of times which are given without one that is known.

        `share` is whose entries are read; of all others no more than when they were written, which `pulse` takes of all that
        matter.

        With `counted` ordinary logins are counted there, each but the first of an account on a host: they are no events then.
        """
        self._origin = origin
        self._names = names or Names({})
        self._form, self._zone = form, zone
        self._share = share
        self._pulse = pulse or Pulse()
        self._told: Told[str, Event] = Told(lambda _, event: event)
        self._counted = counted
        self._ours = OfShare(share)
        self._verdicts, self._sudo, self._handed_on, self._audit = VerdictStream(), SudoStream(), HandedOnStream(), AuditWithin()
        self._gaps: list[Gap] = []
        self._unread = Unread()
        self._objects = Objects(self._unread)
        self.unknown: Counter[str] = Counter()

    def events(self, blocks: Iterable[bytes], after: int = 0, until: datetime | None = None) -> Iterator[Event]:
        """Yield the events of an export, whose blocks come after a number of lines.

        Where others come later, of no time before `until`, what may wait for them goes on waiting.
        """
        blocks = self._audit.seen(blocks)
        if self._form is JournalForm.JSON:
            entries = self._stated(blocks, after)
        else:
            entries = self._exported(blocks) if self._form is JournalForm.EXPORT else self._shown(blocks)
        events = (event for entry, number in entries for event in self._events(entry, number))
        settled = self._sudo.settled(self._verdicts.decided(events, last=until is None), until=until)
        return self._audit.told_once(self._handed_on.told_once(settled, until), last=until is None)

    @property
    def since(self) -> datetime | None:
        """Since when something waits for lines that come later, ``None`` where nothing does."""
        return earliest(at for at in (self._verdicts.since, self._sudo.since, self._handed_on.since, self._audit.since) if at is not None)

    @property
    def gaps(self) -> list[Gap]:
        """What could not be read so far; of lines of no form, where several read the log, the one that states its times says so."""
        return [*self._gaps, *(self._unread.gaps(self._origin) if self._share.times else ())]

    @property
    def lasting(self) -> tuple[object, ...] | None:
        """What is known at the end of blocks that were not the last, for another reader to go on with; of JSON alone."""
        if self._form is not JournalForm.JSON:
            return None
        lines = self._gaps, self._unread.lasting, self._objects.lasting
        return self._names.lasting, self._verdicts, self._sudo, self._handed_on, self._audit, self.unknown, lines

    @lasting.setter
    def lasting(self, known: tuple[Any, ...]) -> None:
        self._names.lasting, self._verdicts, self._sudo, self._handed_on, self._audit, self.unknown, lines = known
        self._gaps, self._unread.lasting, self._objects.lasting = lines

    def _stated(self, blocks: Iterable[bytes], after: int) -> Iterator[tuple[Any, int]]:
        """Yield the entries of JSON lines with their numbers, which come after a number of others."""
        number, objects, held = after, self._objects, self._objects.held
        for block in blocks:
            for line in block.split(b"\n"):
                number += 1
                if line.startswith(_ENTRY) and not held:
                    if _IDENTIFIER in line:
                        entry = self._entry(line, number)
                        if entry is not None:
                            yield entry, number
                elif line:
                    for text, begun in objects.of(line, number):
                        entry = self._entry(text, begun) if _IDENTIFIER in text else None
                        if entry is not None:
                            yield entry, begun
            number -= 1 if block.endswith(b"\n") else 0

    def _entry(self, text: bytes, number: int) -> Any:
        """Return an entry, nothing of a text that is not one."""
        try:
            return _loaded(text)
        except (ValueError, RecursionError) as error:
            self._gap(f"not JSON: {error}", number)
            return None

    def _shown(self, blocks: Iterable[bytes]) -> Iterator[tuple[Any, int]]:
        """Yield the entries as they are shown to readers: a line with the time, and one for each field, more where it has lines itself."""
        fields: dict[str, str] = {}
        name, begun = "", 1
        lines = (line for block in blocks for line in whole_lines(block))
        for number, line in enumerate(lines, 1):
            head = _HEAD.match(line)
            field = _FIELD.match(line) if head is None else None
            if head is not None:
                yield _entry(fields), begun
                fields, begun = {"__REALTIME_TIMESTAMP": self._clock_time(head[1])}, number
            elif field is not None:
                name = field[1].decode()
                fields[name] = decode(field[2])
            elif line.startswith(b"     ") and name in fields:
                fields[name] += "\n" + decode(line[5 + len(name) :])
            elif line:
                self._unread.see(number, line)
        yield _entry(fields), begun

    def _clock_time(self, stamp: bytes) -> str:
        """Return the microseconds since 1970 of a stamp, nothing where it is not a time."""
        try:
            at = datetime.fromisoformat((plain_stamp(stamp) or b"").decode())
            return str(microseconds(at if at.tzinfo else at.replace(tzinfo=self._zone)))
        except (ValueError, OverflowError):
            return ""

    def _exported(self, blocks: Iterable[bytes]) -> Iterator[tuple[Any, int]]:
        """Yield the entries of the export format: ``NAME=value`` lines, or a name, eight bytes of length and as many of value."""
        stream, line, begun = BufferedReader(_Stream(blocks)), 1, 1
        fields: dict[str, str] = {}
        while text := stream.readline(_LONGEST):
            line += 1
            name, equals, value = text.rstrip(b"\n").partition(b"=")
            if not name:
                yield _entry(fields), begun
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
        yield _entry(fields), begun

    def _events(self, entry: Any, number: int) -> Iterable[Event]:
        """Return what an entry tells: one event, or as many as a message was repeated."""
        program = _value(entry.syslog_identifier)
        if program not in _PROGRAMS:
            return ()
        host, whole = _value(entry.hostname), _value(entry.message)
        is_ours = self._ours[host]
        # A line of sudo can name another host than its own.
        concerns = is_ours or "HOST=" in whole or "submithost" in whole
        if not concerns and not self._share.times:
            return ()
        at = _time(entry)
        self._pulse.beat(at, number)
        if not concerns:
            return ()
        if program in OF_SSHD:
            whole = without_port(whole)
        event = self._told.known.get((program, whole)) or self._told.of(program, whole)
        if not isinstance(event, Event):
            if not event:
                self.unknown[program] += 1
            return ()
        doubt = event.doubt
        if not (event.audited and entry.transport == _KERNELS):  # of whom a record is, the kernel says there, which wrote it
            doubt = doubt or impostor(program, *[_value(one) for one in (entry.comm, entry.exe, entry.uid, entry.cap_effective)])
        account = self._names.account(host, event.account)
        if event.kind is EventKind.OPENED:
            message = once(whole)
            if not doubt:  # of no other message: a user can type such pairs
                self._names.learn(host, pairs_of(message))
            account = account or self._names.opener(host, event.program, message)
        login = self._names.login(host, _value(entry.audit_loginuid), account)
        pid = _value(entry.pid) or _value(entry.syslog_pid)
        process = int(pid) if pid.isdecimal() and len(pid) < 10 else None
        process = process if event.pid is None else event.pid
        head = event[0] or at, self._origin.at(number), process, event.kind, event.program, event.host or host, account
        made: Event = tuple.__new__(Event, (*head, *event[_AFTER_ACCOUNT:_LOGIN], event.login or login, doubt, *event[_LOGIN + 2 :]))
        if whole.startswith("message repeated "):
            return repeated(made, whole)
        counted = None if self._audit.is_one else self._counted  # of what is told twice one is compared with the other
        if counted is not None and is_ordinary_login(made) and counted.takes(host, (made.account, made.target)):
            if made.kind is EventKind.LOGIN:
                counted.login(host, made.target, made.at)
            return ()
        return (made,)

    def _gap(self, why: str, line: int) -> None:
        self._gaps.append(Gap(what="journal entry", why=why, weakens="its content is not known", place=self._origin.at(line)))


# The fields of an entry that are looked at; a value is text, a list of bytes or of values, or null.
_FIELDS = (*JOURNAL_FIELDS, "_TRANSPORT", "__REALTIME_TIMESTAMP")
_ATTRIBUTES = {name.lstrip("_").lower(): name for name in _FIELDS}
_Entry = msgspec.defstruct("_Entry", [(name, Any, "") for name in _ATTRIBUTES], rename=_ATTRIBUTES)
_decoded = msgspec.json.Decoder(_Entry).decode


def _loaded(line: bytes) -> Any:
    """Return an entry; nothing of a line that holds something else."""
    try:
        return _decoded(line)
    except msgspec.MsgspecError:  # it is stricter than others about text that is no Unicode, and than this about what is no entry
        stated = json.loads(line)
        return _entry(stated) if isinstance(stated, dict) else None


def _value(value: Any) -> str:
    """Return a field as text: bytes that are not UTF-8 come as a list of numbers, what was too long as null."""
    if value.__class__ is str:
        return value
    if isinstance(value, list) and all(isinstance(one, int) and 0 <= one < 256 for one in value):
        return decode(bytes(value))
    if isinstance(value, list):
        return _value(value[-1]) if value else ""
    return value if isinstance(value, str) else ""


def _entry(fields: Mapping[str, Any]) -> Any:
    return _Entry(**{name: fields[field] for name, field in _ATTRIBUTES.items() if field in fields})


def _time(entry: Any) -> datetime | None:
    text = _value(entry.source_realtime_timestamp) or _value(entry.realtime_timestamp)
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
