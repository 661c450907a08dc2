"""What a record of the audit log says, as an event: who did it by the log-in user ID, which su and sudo do not change."""

import re
from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from typing import NamedTuple

from fidelitas.facts import NOWHERE, Change, Event, EventKind
from fidelitas.languages.logs.audit_fields import fields_of, number_or_name, program_of, terminal_of
from fidelitas.masking import masked

__all__ = ["SYSTEM_CALL", "TELLING", "event_of", "read_record_within", "time_of"]

_ARGUMENT = re.compile(r"a\d+\Z")
_CHANGES = frozenset(
    ("ADD_USER", "DEL_USER", "ADD_GROUP", "DEL_GROUP", "USER_CHAUTHTOK", "USER_MGMT", "GRP_MGMT", "ACCT_LOCK", "ACCT_UNLOCK")
)
# sshd writes "(invalid user)" for a name that no account has (its audit-linux.c); libpam and login write what was typed.
_VOUCHES = "sshd"
_SESSIONS = {"USER_START": EventKind.OPENED, "USER_END": EventKind.CLOSED}
_SWITCHES = frozenset({"su", "sudo", "pkexec", "doas"})
# Parts of a change that another record states as a whole.
_PARTS = re.compile(r"shadow|home directory|/etc/|mail file")
# The same change in the words that the account tools themselves use for it.
_MEMBERSHIP = (
    (re.compile(r"add(?:ing)?[ -]user[ -]to[ -]group"), "added to the group", Change.MEMBER_ADDED),
    (re.compile(r"delet(?:e|ing)[ -]user[ -]from[ -]group"), "removed from the group", Change.MEMBER_REMOVED),
)
_CONFIGURATION = frozenset({"CONFIG_CHANGE", "DAEMON_END", "DAEMON_ABORT", "DAEMON_CONFIG"})
# System calls say nothing, but for what the next record of the same event says.
SYSTEM_CALL, _ARGUMENTS = "SYSCALL", "EXECVE"
# The records that events are read from; all others are passed over.
TELLING = frozenset({"USER_CMD", "USER_AUTH", "USER_LOGIN", SYSTEM_CALL, _ARGUMENTS, *_SESSIONS, *_CHANGES, *_CONFIGURATION})
# As the audit system's dispatcher hands records to syslog, and as journald has them, which leaves the time to the entry.
_WITHIN = re.compile(r"(?:node=(\S+) )?type=([A-Z0-9_]+) msg=audit\((\d{1,10})\.(\d{3}):\d+\): ?(.*)\Z", re.DOTALL)
_NAMED = re.compile(r"([A-Z][A-Z0-9_]+) (.*)\Z", re.DOTALL)
# The account that a field of a record has the number of.
Named = Callable[[Mapping[str, str], str], str]


class _Said(NamedTuple):
    """What a record says of an event, besides who did it."""

    kind: EventKind
    target: str
    command: str = ""
    reason: str = ""
    change: Change | None = None


def event_of(kind: str, fields: Mapping[str, str], call: Mapping[str, str], named: Named) -> Event | None:
    """Return what a record says, without when and where; nothing of one that concerns no privilege.

    `call` are the fields of who did it: the record's own, or those of the system call that it belongs to.
    """
    program = program_of(fields)
    told = _told(kind, fields, program, call, named)
    if told is None:
        return None
    return Event(
        at=None,
        place=NOWHERE,
        pid=int(fields["pid"]) if fields.get("pid", "").isdecimal() else None,
        kind=told.kind,
        program=(program_of(call) if kind == _ARGUMENTS else program) or "auditd",
        account=named(call, "auid") or named(call, "uid"),
        target=told.target,
        group=fields.get("grp", ""),
        terminal=terminal_of(fields, call),
        folder=fields.get("cwd", ""),
        command=masked(told.command) if told.command else "",
        reason=told.reason,
        change=told.change,
        address=fields["addr"] if fields.get("addr", "?") != "?" else "",
        typed=told.kind in (EventKind.FAILED, EventKind.LOGIN_FAILED) and (program != _VOUCHES or "PAM:" in fields.get("op", "")),
    )


def read_record_within(message: str) -> Event | bool:
    """Return what a record says that is a message of another log; where it says nothing, whether it is a record.

    An account of which it has the number alone is called by that, ``#1001``.  Programs that ran as their owner are not among them: these
    take two records.
    """
    stated = _WITHIN.match(message)
    named = None if stated is not None else _NAMED.match(message)
    if stated is not None:
        host, kind, seconds, thousandths, rest = stated.groups()
        at = time_of(seconds, thousandths)
    elif named is not None:
        (kind, rest), host, at = named.groups(), "", None
    else:
        return False
    fields = fields_of(rest.encode("utf-8", "surrogateescape")) if kind in TELLING else {}
    event = event_of(kind, fields, fields, number_or_name) if fields and kind not in (SYSTEM_CALL, _ARGUMENTS) else None
    return True if event is None else event._replace(at=at, host=host or "", audited=True)


def time_of(seconds: str | bytes, thousandths: str | bytes) -> datetime:
    """Return the time that a record states."""
    return datetime.fromtimestamp(int(seconds) + int(thousandths) / 1000, UTC)


def _told(kind: str, fields: Mapping[str, str], program: str, call: Mapping[str, str], named: Named) -> _Said | None:
    """Return what a record says: kind, target, command and reason."""
    succeeded = fields.get("res", "success") in ("success", "1", "yes")
    account = fields.get("acct", "") or named(fields, "id")
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
    if kind == "EXECVE" and _raises(call):
        arguments = [value for name, value in fields.items() if _ARGUMENT.match(name)]
        return _Said(EventKind.USED, named(call, "euid"), " ".join(arguments), "setuid program")
    return None


def _raises(call: Mapping[str, str]) -> bool:
    """Return whether a call ran a program with root's rights for someone else."""
    program = program_of(call)
    return call.get("euid") == "0" and call.get("uid", "0") != "0" and call.get("success") == "yes" and program not in _SWITCHES
