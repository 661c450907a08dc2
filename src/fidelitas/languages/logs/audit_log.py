"""The Linux audit log: who did what by the log-in user ID, which su and sudo do not change (auditd(8), audit message format).

Records of one event share a time and a serial number, each host's its own: a system call and the arguments of what it started.
"""

import re
from collections.abc import Iterable, Iterator
from datetime import datetime
from functools import partial
from typing import Any

from fidelitas.facts import Event, EventKind, Gap, Place
from fidelitas.languages.logs.aside import Passing
from fidelitas.languages.logs.audit_fields import AuditNames, fields_of
from fidelitas.languages.logs.audit_records import SYSTEM_CALL, TELLING, event_of, time_of
from fidelitas.languages.logs.entries import count_lines, numbered_lines
from fidelitas.languages.logs.journal_fields import Names
from fidelitas.languages.logs.pulse import Pulse
from fidelitas.languages.logs.shares import WHOLE, OfShare, Share
from fidelitas.languages.logs.unread import Unread
from fidelitas.text import decode

__all__ = ["AuditReader", "is_audit_log"]

_TELLING = frozenset(kind.encode() for kind in TELLING)
_RECORD = re.compile(rb"(?:node=(\S+) )?type=([A-Z0-9_]+) msg=audit\(((\d{1,10})\.(\d{3}):\d+)\): ?(.*)\Z")
_FIRST = re.compile(rb"(?:node=\S+ )?type=[A-Z0-9_]+ msg=audit\(\d{1,10}\.\d{3}:\d+\):")
_LEARNT = frozenset({b"USER_START", b"USER_LOGIN"})
_CALL, _AS_ROOT = SYSTEM_CALL.encode(), b" euid=0 "
_MOST_CALLS, _LONGEST_CALL = 1000, 4096
_MOST_KEPT, _LONGEST_KEPT = 10_000, 500


def is_audit_log(start: bytes) -> bool:
    """Return whether a log that begins so is an audit log."""
    return _FIRST.match(start) is not None


class AuditReader:
    """Reads one audit log, of one host or of many (``node=``); accounts' names are learned from records that state their numbers, too."""

    def __init__(
        self,
        origin: Place,
        names: Names | None = None,
        share: Share = WHOLE,
        pulse: Pulse | None = None,
        aside: Passing | None = None,
    ) -> None:
        """`share` is whose records are read; `pulse` takes when those were written that concern privilege, `aside` what they say."""
        self._origin = origin
        self._names = AuditNames(names or Names({}))
        self._share, self._ours = share, OfShare(share)
        self._pulse, self._aside = pulse or Pulse(), aside
        self._calls: dict[tuple[bytes | None, bytes], bytes] = {}  # system calls with root's rights, by host, time and number
        self._plain: dict[tuple[object, ...], Any] = {}  # by what an event says, what the taker of plain ones made of it
        self._unread = Unread()

    @property
    def lasting(self) -> tuple[object, ...]:
        """What is known at the end of some blocks, for another reader to go on with."""
        return self._names.lasting, self._calls, self._unread.lasting

    @lasting.setter
    def lasting(self, known: tuple[Any, ...]) -> None:
        self._names.lasting, self._calls, self._unread.lasting = known

    def events(self, blocks: Iterable[bytes], after: int = 0, until: datetime | None = None) -> Iterator[Event]:
        """Yield the events of blocks of whole lines, which come after a number of others; nothing waits for later ones."""
        del until
        number = 1 + after
        for block in blocks:
            for at, line in numbered_lines(block, number):
                kind = _kind_of(line)
                if (kind in _TELLING or not kind) and (kind != _CALL or _AS_ROOT in line):
                    event = self._read(line, at)
                    if event is not None and not self._passes(event):
                        yield event
            number += count_lines(block)

    def _read(self, line: bytes, number: int) -> Event | None:
        """Return what a record says of privilege, if anything; a line that is no record is noted."""
        found = _RECORD.match(line)
        if found is None:
            self._unread.see(number, line)
            return None
        node, kind, serial = found.group(1, 2, 3)
        if kind == _CALL:
            self._begun((node, serial), found[6])
            return None
        is_ours = self._ours[decode(node or b"") or self._origin.subject]
        if not (is_ours or self._share.times) or (kind == b"EXECVE" and (node, serial) not in self._calls):
            return None
        at = time_of(found[4], found[5])
        self._pulse.beat(at, number)
        return self._event(found, at, number) if is_ours else None

    def _begun(self, call: tuple[bytes | None, bytes], rest: bytes) -> None:
        """Keep a system call for the record of its arguments, which need not be the next."""
        if len(rest) <= _LONGEST_CALL:
            self._calls[call] = rest
        if len(self._calls) > _MOST_CALLS:
            del self._calls[next(iter(self._calls))]

    def _passes(self, event: Event) -> bool:
        """Return whether an event was taken aside."""
        aside, said = self._aside, event.dedup_key
        if aside is None or not aside.ready or event.kind is EventKind.CHANGED:
            return False
        plain = self._plain.get(said)
        if plain is not None and event.at is not None:
            aside.take_plain(plain, event.at, self._origin, event.place.line or 0, event.pid, event.host)
            return True
        aside.take(event)  # its names are learned
        if len(self._plain) < _MOST_KEPT and len(event.command) <= _LONGEST_KEPT:
            self._plain[said] = aside.plain(event._replace(at=None, pid=None))
        return True

    @property
    def gaps(self) -> list[Gap]:
        """What could not be read so far; where several read the log, the one that states its times says so."""
        return self._unread.gaps(self._origin) if self._share.times else []

    def _event(self, found: re.Match[bytes], at: datetime, line: int) -> Event | None:
        node, kind, serial, *_, rest = found.groups()
        fields, host = fields_of(rest), decode(node or b"")
        if kind in _LEARNT or b"UID=" in rest:
            self._names.learn(host, fields)
        call = fields_of(self._calls[node, serial]) if kind == b"EXECVE" else fields
        event = event_of(kind.decode(), fields, call, partial(self._names.of, host))
        return None if event is None else event.stamped(at, self._origin.at(line), None, host)


def _kind_of(line: bytes) -> bytes:
    """Return the type of the record that a line is, nothing where it is none."""
    begin = 0
    if line.startswith(b"node="):
        begin = line.find(b" ") + 1
    if not line.startswith(b"type=", begin):
        return b""
    return line[begin + 5 : line.find(b" ", begin)]
