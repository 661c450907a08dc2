"""What logs tell: who used, or tried to use, a privilege; sessions, log-ins, and changes of accounts and groups."""

from datetime import datetime
from enum import Enum, StrEnum
from typing import NamedTuple

from fidelitas.text import Place

__all__ = ["LOGIN_SERVICES", "NOWHERE", "Change", "Event", "EventKind", "TimeJump", "is_ordinary_login"]

NOWHERE = Place("", "")  # of what a message tells, before it is known where that stands


class EventKind(Enum):
    """What happened."""

    USED = "used"  # a privilege was used
    REFUSED = "refused"  # the policy, or the program, said no
    FAILED = "failed authentication"
    OPENED = "session opened"
    CLOSED = "session closed"
    LOGIN = "login"
    LOGIN_FAILED = "failed login"
    CHANGED = "change of accounts"  # of an account, a group, a membership, a password

    __hash__ = object.__hash__  # that of Enum is worked out anew each time


class Change(StrEnum):
    """What was changed, where later reasoning depends on it; of other changes the words of the line are enough."""

    MEMBER_ADDED = "member-added"
    MEMBER_REMOVED = "member-removed"
    MEMBERS_SET = "members-set"
    ACCOUNT_CREATED = "account-created"
    ACCOUNT_DELETED = "account-deleted"
    AUDIT = "audit-changed"


class Event(NamedTuple):  # a tuple, since there are millions of them
    """One thing that a log records.

    `account` is who did it and `target` whom it was done as or to, empty where the line does not say.  `reason` is why it was refused or
    failed, or what was changed, in the words of the line; `change` is what was changed, as a code.  `times` says how many wrong passwords
    the line is about.  `login` is the account of the login, which su and sudo do not change, where the kernel records it.
    `typed` says that `target` is what was typed where the name of an account belongs, and need not be one: it may be a password; where it
    was masked therefore, `masked` counts the different names of which this is one.
    `doubt` says why a line should not be believed as it stands: part of it may have been written by the account that it is about.  `at` is
    in UTC; ``None`` where the line has no time that can be read.
    """

    at: datetime | None
    place: Place
    pid: int | None
    kind: EventKind
    program: str
    host: str = ""
    account: str = ""
    target: str = ""
    group: str = ""
    terminal: str = ""
    folder: str = ""
    command: str = ""
    reason: str = ""
    times: int = 1
    address: str = ""
    login: str = ""
    doubt: str = ""
    typed: bool = False
    masked: int = 0
    change: Change | None = None
    sums_up: bool = False  # it is about a try of which lines before told wrong passwords
    last_only: bool = False  # of several such events the file keeps the last alone (lastlog)
    end: str = ""  # how the line ends where that may be the end of a command, or an argument of it
    part: bool = False  # goes on with the command of the line before
    recording: str = ""  # where sudo records the session that a command runs in (I/O log): its path, or its name
    within: bool = False  # run by something that runs with privilege already, as sub-command logging has it
    module: str = ""  # of PAM, where it says of a password whether it was right
    audited: bool = False  # a record of the audit log within another, which tells besides what programs say

    def stamped(self, at: datetime | None, place: Place, pid: int | None, host: str) -> "Event":
        """Return what a message tells as an event of a time and place; a time, a process and a host that it names itself stay."""
        process = pid if self[2] is None else self[2]
        return tuple.__new__(Event, (self[0] or at, place, process, self[3], self[4], self[5] or host, *self[6:]))

    @property
    def dedup_key(self) -> tuple[object, ...]:
        """What the line says, without when and where: two logs tell the same event alike."""
        return self[3:]


# Services that let someone in: PAM tells of their sessions, each of which is of the account that logs in.
LOGIN_SERVICES = frozenset(
    {
        "sshd", "login", "remote", "gdm-password", "gdm-autologin", "gdm-fingerprint", "gdm-smartcard", "gdm-pin", "lightdm",
        "lightdm-autologin", "sddm", "sddm-autologin", "xdm", "kde", "lxdm", "slim", "xrdp-sesman", "cockpit", "vsftpd", "proftpd", "ftp",
        "rlogin", "rsh",
    }
)  # fmt: skip
_OF_LOGIN = frozenset({EventKind.LOGIN, EventKind.OPENED, EventKind.CLOSED})


def is_ordinary_login(event: Event) -> bool:
    """Return whether an event is a login, or the begin or end of one, as an account other than root, and nothing more."""
    return (
        event.kind in _OF_LOGIN
        and event.program in LOGIN_SERVICES
        and event.target not in ("", "root")
        and not (event.terminal or event.doubt or event.login or event.last_only)
    )


class TimeJump(NamedTuple):
    """A line of a log that was written before the lines above it, as its time says."""

    line: int
    before: datetime
    after: datetime
