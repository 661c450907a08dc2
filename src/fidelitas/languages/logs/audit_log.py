"""The Linux audit log: who did what by the log-in user ID, which su and sudo do not change (auditd(8), audit message format).

Knows records and fields: hexadecimal where a value holds odd bytes, names after the record where the daemon adds them.  Records of one
event share a serial number: a system call and the arguments of what it started.
"""

import re
from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime
from typing import Any, NamedTuple

from fidelitas.facts import Change, Event, EventKind, Gap, Place
from fidelitas.languages.logs.entries import numbered_lines
from fidelitas.languages.logs.unread import Unread
from fidelitas.masking import masked
from fidelitas.text import decode

__all__ = ["AuditReader", "is_audit_log"]

_RECORD = re.compile(
    rb"^(?:node=(?P<node>\S+) )?type=(?P<type>[A-Z_]+) msg=audit\((?P<at>\d{1,10})\.(?P<ms>\d{3}):(?P<serial>\d+)\): ?(?P<rest>.*)$",
    re.MULTILINE,
)
_FIELD = re.compile(r"(?:\A|[ \x1d',(])([A-Za-z][\w-]*)=(\"[^\"]*\"|\([^)]*\)|[^ \x1d',]*)")
_OPERATION = re.compile(r"\bop=((?:(?! [\w-]+=)[^'\x1d])*)")
_HEXADECIMAL = re.compile(r"(?:[0-9A-F]{2})+\Z")
# Fields whose values are written in hexadecimal where they hold blanks or odd bytes.
_ENCODED = frozenset({"cmd", "cwd", "exe", "acct", "grp", "comm", "name", "proctitle"})
_ARGUMENT = re.compile(r"a\d+\Z")
_UNSET = ("4294967295", "-1", "unset", "?", "")
_CHANGES = frozenset(
    ("ADD_USER", "DEL_USER", "ADD_GROUP", "DEL_GROUP", "USER_CHAUTHTOK", "USER_MGMT", "GRP_MGMT", "ACCT_LOCK", "ACCT_UNLOCK")
)
# sshd writes "(invalid user)" for a name that no account has (its audit-linux.c); libpam and login write what was typed.
_VOUCHES = "sshd"
_SESSIONS = {"USER_START": EventKind.OPENED, "USER_END": EventKind.CLOSED}
_SWITCHES = frozenset({"su", "sudo", "pkexec", "doas"})
# Files under which programs are elsewhere, or in parts.
_SAME = {"sshd-session": "sshd", "sshd-auth": "sshd", "sudo.ws": "sudo", "sudo-rs": "sudo", "sudoedit": "sudo", "su-rs": "su"}
# Parts of a change that another record tells as a whole.
_PARTS = re.compile(r"shadow|home directory|/etc/|mail file")
# The same change in the words that the account tools themselves use for it.
_MEMBERSHIP = (
    (re.compile(r"add(?:ing)?[ -]user[ -]to[ -]group"), "added to the group", Change.MEMBER_ADDED),
    (re.compile(r"delet(?:e|ing)[ -]user[ -]from[ -]group"), "removed from the group", Change.MEMBER_REMOVED),
)
_CONFIGURATION = frozenset({"CONFIG_CHANGE", "DAEMON_END", "DAEMON_ABORT", "DAEMON_CONFIG"})
# The records that events are read from; most others are only counted.
_TELLING = frozenset(kind.encode() for kind in ("USER_CMD", "USER_AUTH", "USER_LOGIN", "EXECVE", *_SESSIONS, *_CHANGES, *_CONFIGURATION))
_IDS = re.compile(rb"\b(?:auid|uid)=\d+")
_MOST_SEEN = 10_000


def is_audit_log(start: bytes) -> bool:
    """Return whether a log that begins so is an audit log."""
    return _RECORD.match(start) is not None


class _Said(NamedTuple):
    """What a record says of an event, besides who did it."""

    kind: EventKind
    target: str
    command: str = ""
    reason: str = ""
    change: Change | None = None


class AuditReader:
    """Reads one audit log; names of accounts are learned from records that tell both name and number."""

    def __init__(self, origin: Place, names: Mapping[int, str] | None = None) -> None:
        self._origin = origin
        self._names: dict[str, str] = {"0": "root", **{str(uid): name for uid, name in (names or {}).items()}}
        self._call: tuple[bytes, bytes] = (b"", b"")  # the last system call: its number, and what is told of it
        self._seen: set[tuple[bytes, ...]] = set()
        self._unread = Unread()

    @property
    def lasting(self) -> tuple[object, ...]:
        """What is known at the end of some blocks, for another reader to go on with."""
        return self._names, self._call, self._seen, self._unread.lasting

    @lasting.setter
    def lasting(self, known: tuple[Any, ...]) -> None:
        self._names, self._call, self._seen, self._unread.lasting = known

    def events(self, blocks: Iterable[bytes], after: int = 0, until: datetime | None = None) -> Iterator[Event]:
        """Yield the events of blocks of whole lines, which come after a number of others; nothing waits for later ones."""
        del until
        before = 1 + after
        for block in blocks:
            at = records = 0
            begin = before
            for found in _RECORD.finditer(block):
                records += 1
                kind, serial, rest = found["type"], found["serial"], found["rest"]
                if b"UID=" in rest:
                    self._learn_names(rest)
                if kind == b"SYSCALL":
                    self._call = serial, rest
                elif kind in _TELLING and (kind != b"EXECVE" or serial == self._call[0]):
                    before += block.count(b"\n", at, found.start())
                    at = found.start()
                    event = self._event(found, _fields(decode(rest)), before)
                    if event is not None:
                        yield event
            before += block.count(b"\n", at)
            if records < before - begin:
                self._see_others(block, begin)

    def _see_others(self, block: bytes, number: int) -> None:
        """Note the lines of a block that are no records."""
        for at, line in numbered_lines(block, number):
            if _RECORD.match(line) is None:
                self._unread.see(at, line)

    @property
    def gaps(self) -> list[Gap]:
        """What could not be read so far."""
        return self._unread.gaps(self._origin)

    def _learn_names(self, rest: bytes) -> None:
        """Remember accounts' names from what the daemon adds to a record, once for each of those that look alike."""
        seen = (rest[rest.find(b"UID=") - 1 :], *_IDS.findall(rest)[:2])
        if seen not in self._seen:
            if len(self._seen) >= _MOST_SEEN:
                self._seen.clear()
            self._seen.add(seen)
            self._learn(_fields(decode(rest)))

    def _learn(self, fields: Mapping[str, str]) -> None:
        """Remember an account's name: the daemon adds it in capitals; at a log-in the account is the log-in user."""
        for number, name in (("auid", "AUID"), ("uid", "UID")):
            if not fields.get(name, "unknown(").startswith(("unknown(", "unset")) and fields.get(number, "") not in _UNSET:
                self._names[fields[number]] = fields[name]
        program = _program(fields)
        opened = program in ("sshd", "login") and "session_open" in fields.get("op", "")
        if opened and fields.get("acct") and fields.get("auid", "") not in _UNSET:
            self._names[fields["auid"]] = fields["acct"]

    def _name(self, number: str) -> str:
        return "" if number in _UNSET else self._names.get(number, f"#{number}")

    def _event(self, found: re.Match[bytes], fields: Mapping[str, str], line: int) -> Event | None:
        kind = found["type"].decode()
        program = _program(fields)
        if kind in ("USER_START", "USER_LOGIN"):
            self._learn(fields)
        invoker = _fields(decode(self._call[1])) if kind == "EXECVE" else fields
        told = self._told(kind, fields, program, invoker)
        if told is None:
            return None
        return Event(
            at=_time(found),
            kind=told.kind,
            program=(_program(invoker) if kind == "EXECVE" else program) or "auditd",
            host=decode(found["node"] or b""),
            account=self._name(invoker.get("auid", "")) or self._name(invoker.get("uid", "")),
            target=told.target,
            group=fields.get("grp", ""),
            terminal=_terminal(fields.get("terminal", "") or invoker.get("tty", "")),
            folder=fields.get("cwd", ""),
            command=masked(told.command),
            reason=told.reason,
            change=told.change,
            address=fields["addr"] if fields.get("addr", "?") != "?" else "",
            pid=int(fields["pid"]) if fields.get("pid", "").isdecimal() else None,
            place=self._origin.at(line),
            typed=told.kind in (EventKind.FAILED, EventKind.LOGIN_FAILED) and (program != _VOUCHES or "PAM:" in fields.get("op", "")),
        )

    def _told(self, kind: str, fields: Mapping[str, str], program: str, invoker: Mapping[str, str]) -> "_Said | None":
        """Return what a record tells: kind, target, command and reason."""
        succeeded = fields.get("res", "success") in ("success", "1", "yes")
        account = fields.get("acct", "") or self._name(fields.get("id", ""))
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
            return _Said(EventKind.USED, self._name(invoker.get("euid", "")), " ".join(arguments), "setuid program")
        return None


def _raises(call: Mapping[str, str]) -> bool:
    """Return whether a call ran a program with root's rights for someone else."""
    program = _program(call)
    return call.get("euid") == "0" and call.get("uid", "0") != "0" and call.get("success") == "yes" and program not in _SWITCHES


def _program(fields: Mapping[str, str]) -> str:
    program = fields.get("exe", "").rpartition("/")[2]
    return _SAME.get(program, program)


def _fields(text: str) -> dict[str, str]:
    """Return the fields of a record, those within its message too: ``op`` runs on to the next field."""
    fields = {}
    for name, value in _FIELD.findall(text):
        if value[:1] == '"':
            fields[name] = value.strip('"()')
        elif name in _ENCODED or (name[0] == "a" and name[1:].isdecimal()):
            fields[name] = _decoded(value.strip('"()'))
        else:
            fields[name] = value.strip('"()')
    operation = _OPERATION.search(text) if "op=" in text else None
    if operation is not None:
        fields["op"] = operation[1].strip('" ')
    return fields


def _decoded(value: str) -> str:
    return decode(bytes.fromhex(value)) if _HEXADECIMAL.match(value) else value


def _terminal(text: str) -> str:
    name = text.removeprefix("/dev/")
    return "" if name in ("?", "ssh", "none") else name


def _time(found: re.Match[bytes]) -> datetime:
    return datetime.fromtimestamp(int(found["at"]) + int(found["ms"]) / 1000, UTC)
