"""The Linux audit log: who did what by the log-in user ID, which su and sudo do not change (auditd(8), audit message format).

Records of one event share a time and a serial number, each host's its own: a system call and the arguments of what it started.
"""

import re
from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime
from typing import Any, NamedTuple

from fidelitas.facts import Change, Event, EventKind, Gap, Place
from fidelitas.languages.logs.aside import Passing
from fidelitas.languages.logs.audit_fields import AuditNames, fields_of, program_of, terminal_of
from fidelitas.languages.logs.entries import count_lines, numbered_lines
from fidelitas.languages.logs.journal_fields import Names
from fidelitas.languages.logs.pulse import Pulse
from fidelitas.languages.logs.shares import WHOLE, OfShare, Share
from fidelitas.languages.logs.unread import Unread
from fidelitas.masking import masked
from fidelitas.text import decode

__all__ = ["AuditReader", "is_audit_log"]

_ARGUMENT = re.compile(r"a\d+\Z")
_CHANGES = frozenset(
    ("ADD_USER", "DEL_USER", "ADD_GROUP", "DEL_GROUP", "USER_CHAUTHTOK", "USER_MGMT", "GRP_MGMT", "ACCT_LOCK", "ACCT_UNLOCK")
)
# sshd writes "(invalid user)" for a name that no account has (its audit-linux.c); libpam and login write what was typed.
_VOUCHES = "sshd"
_SESSIONS = {"USER_START": EventKind.OPENED, "USER_END": EventKind.CLOSED}
_SWITCHES = frozenset({"su", "sudo", "pkexec", "doas"})
# Parts of a change that another record tells as a whole.
_PARTS = re.compile(r"shadow|home directory|/etc/|mail file")
# The same change in the words that the account tools themselves use for it.
_MEMBERSHIP = (
    (re.compile(r"add(?:ing)?[ -]user[ -]to[ -]group"), "added to the group", Change.MEMBER_ADDED),
    (re.compile(r"delet(?:e|ing)[ -]user[ -]from[ -]group"), "removed from the group", Change.MEMBER_REMOVED),
)
_CONFIGURATION = frozenset({"CONFIG_CHANGE", "DAEMON_END", "DAEMON_ABORT", "DAEMON_CONFIG"})
# The records that events are read from; all others are passed over.
_TELLING = frozenset(
    kind.encode() for kind in ("USER_CMD", "USER_AUTH", "USER_LOGIN", "SYSCALL", "EXECVE", *_SESSIONS, *_CHANGES, *_CONFIGURATION)
)
_RECORD = re.compile(rb"(?:node=(\S+) )?type=([A-Z0-9_]+) msg=audit\(((\d{1,10})\.(\d{3}):\d+)\): ?(.*)\Z")
_FIRST = re.compile(rb"(?:node=\S+ )?type=[A-Z0-9_]+ msg=audit\(\d{1,10}\.\d{3}:\d+\):")
_LEARNT = frozenset({b"USER_START", b"USER_LOGIN"})
_CALL, _AS_ROOT = b"SYSCALL", b" euid=0 "
_MOST_CALLS, _LONGEST_CALL = 1000, 4096
_MOST_KEPT, _LONGEST_KEPT = 10_000, 500


def is_audit_log(start: bytes) -> bool:
    """Return whether a log that begins so is an audit log."""
    return _FIRST.match(start) is not None


class _Said(NamedTuple):
    """What a record says of an event, besides who did it."""

    kind: EventKind
    target: str
    command: str = ""
    reason: str = ""
    change: Change | None = None


class AuditReader:
    """Reads one audit log, of one host or of many (``node=``); accounts' names are learned from records that tell their numbers, too."""

    def __init__(
        self,
        origin: Place,
        names: Names | None = None,
        share: Share = WHOLE,
        pulse: Pulse | None = None,
        aside: Passing | None = None,
    ) -> None:
        """`share` is whose records are read; `pulse` takes when those were written that tell of privilege, `aside` what they tell."""
        self._origin = origin
        self._names = AuditNames(names or Names({}))
        self._share, self._ours = share, OfShare(share)
        self._pulse, self._aside = pulse or Pulse(), aside
        self._calls: dict[tuple[bytes | None, bytes], bytes] = {}  # system calls with root's rights, by host, time and number
        self._plain: dict[tuple[object, ...], Any] = {}  # by what an event tells, what the taker of plain ones made of it
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
                if kind in _TELLING or not kind:
                    if kind == _CALL and _AS_ROOT not in line:
                        continue
                    event = self._read(line, at)
                    if event is not None and not self._passes(event):
                        yield event
            number += count_lines(block)

    def _read(self, line: bytes, number: int) -> Event | None:
        """Return what a record tells, if anything; a line that is no record is noted."""
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
        at = datetime.fromtimestamp(int(found[4]) + int(found[5]) / 1000, UTC)
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
        invoker = fields_of(self._calls[node, serial]) if kind == b"EXECVE" else fields
        program = program_of(fields)
        told = self._told(kind.decode(), fields, program, invoker, host)
        if told is None:
            return None
        return Event(
            at=at,
            kind=told.kind,
            program=(program_of(invoker) if kind == b"EXECVE" else program) or "auditd",
            host=host,
            account=self._names.of(host, invoker, "auid") or self._names.of(host, invoker, "uid"),
            target=told.target,
            group=fields.get("grp", ""),
            terminal=terminal_of(fields, invoker),
            folder=fields.get("cwd", ""),
            command=masked(told.command) if told.command else "",
            reason=told.reason,
            change=told.change,
            address=fields["addr"] if fields.get("addr", "?") != "?" else "",
            pid=int(fields["pid"]) if fields.get("pid", "").isdecimal() else None,
            place=self._origin.at(line),
            typed=told.kind in (EventKind.FAILED, EventKind.LOGIN_FAILED) and (program != _VOUCHES or "PAM:" in fields.get("op", "")),
        )

    def _told(self, kind: str, fields: Mapping[str, str], program: str, invoker: Mapping[str, str], host: str) -> "_Said | None":
        """Return what a record tells: kind, target, command and reason."""
        succeeded = fields.get("res", "success") in ("success", "1", "yes")
        account = fields.get("acct", "") or self._names.of(host, fields, "id")
        if kind == "USER_CMD":
            return _Said(EventKind.USED if succeeded else EventKind.REFUSED, "", fields.get("cmd", ""), "" if succeeded else "refused")
        if kind == "USER_AUTH" and not succeeded:
            method = fields.get("op", "PAM:")
            return _Said(EventKind.FAILED, account, reason="wrong password" if method.startswith("PAM:") else method)
        if kind == "USER_LOGIN":
            return _Said(EventKind.LOGIN if succeeded else EventKind.LOGIN_FAILED, account, reason="" if succeeded else "refused")
        if kind in _SESSIONS and program in _SWITCHES:
            return _Said(_SESSIONS[kind], account)
        operation = fields.get("op", "")
        if kind in _CHANGES and operation and not operation.startswith("PAM:") and not _PARTS.search(operation):
            words, change = next(((words, change) for pattern, words, change in _MEMBERSHIP if pattern.match(operation)), (operation, None))
            return _Said(EventKind.CHANGED, account, "", words + ("" if succeeded else ": failed"), change if succeeded else None)
        if kind in _CONFIGURATION:
            what = f"audit: {operation or kind.lower().replace('_', ' ')}"
            # auditctl says "set" of every option that it states, changed or not: it is no sign of a change.
            return _Said(EventKind.CHANGED, "", reason=what, change=None if operation == "set" else Change.AUDIT)
        if kind == "EXECVE" and _raises(invoker):
            arguments = [value for name, value in fields.items() if _ARGUMENT.match(name)]
            return _Said(EventKind.USED, self._names.of(host, invoker, "euid"), " ".join(arguments), "setuid program")
        return None


def _kind_of(line: bytes) -> bytes:
    """Return the type of the record that a line is, nothing where it is none."""
    begin = 0
    if line.startswith(b"node="):
        begin = line.find(b" ") + 1
    if not line.startswith(b"type=", begin):
        return b""
    return line[begin + 5 : line.find(b" ", begin)]


def _raises(call: Mapping[str, str]) -> bool:
    """Return whether a call ran a program with root's rights for someone else."""
    program = program_of(call)
    return call.get("euid") == "0" and call.get("uid", "0") != "0" and call.get("success") == "yes" and program not in _SWITCHES
