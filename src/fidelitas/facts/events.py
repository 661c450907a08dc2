"""What logs tell: who used, or tried to use, a privilege; sessions, log-ins, and changes of accounts and groups."""

from dataclasses import dataclass, field
from datetime import datetime
from enum import Enum

from fidelitas.text import Place

__all__ = ["Event", "EventKind"]


class EventKind(Enum):
    """What happened."""

    USED = "used"  # a privilege was used
    REFUSED = "refused"  # the policy, or the program, said no
    FAILED = "failed authentication"
    OPENED = "session opened"
    CLOSED = "session closed"
    LOG_IN = "log-in"
    LOG_IN_FAILED = "failed log-in"
    CHANGED = "change of accounts"  # of an account, a group, a membership, a password


@dataclass(frozen=True, slots=True, kw_only=True)
class Event:
    """One thing that a log tells.

    `account` is who did it and `target` whom it was done as or to, empty where the line does not tell.  `reason` is why it was refused or
    failed, or what was changed.  `doubt` says why a line should not be believed as it stands: part of it may have been written by the
    one whom it is about.  `at` is in UTC; ``None`` where the line has no time that can be read.
    """

    at: datetime | None
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
    count: int = 1
    address: str = ""
    pid: int | None = None
    doubt: str = ""
    place: Place = field(compare=False)
