"""What a Windows machine states: local groups and accounts by SID, user rights, and what runs there from which paths.

Names are translated from one language of Windows to the next, SIDs are not ([MS-DTYP] 2.4.2.4): every fact that has a SID keeps it.
"""

from datetime import datetime
from enum import StrEnum

from msgspec import Struct

from fidelitas.equality import equal_apart_from
from fidelitas.facts.gaps import Gap
from fidelitas.facts.security import SecurityDescriptor
from fidelitas.text import Place

__all__ = [
    "LocalAccount",
    "LocalGroup",
    "LocalMember",
    "MembershipChange",
    "SecuredPath",
    "UserRight",
    "WindowsFacts",
    "WindowsJob",
    "WindowsJobKind",
    "WindowsSession",
]


@equal_apart_from("place")
class LocalMember(Struct, frozen=True, kw_only=True):
    """A member of a local group; `name` has its domain before it, and is ``None`` where the SID belongs to nobody any more."""

    sid: str | None
    name: str | None
    group: bool | None
    place: Place

    @property
    def called(self) -> str:
        """Its name, or its SID where it has none."""
        return self.name or self.sid or "someone without a name"


@equal_apart_from("place")
class LocalGroup(Struct, frozen=True, kw_only=True):
    """A group of the machine; `sid` is ``None`` where the evidence is text that tells names alone."""

    name: str
    sid: str | None
    members: tuple[LocalMember, ...]
    place: Place


@equal_apart_from("place")
class LocalAccount(Struct, frozen=True, kw_only=True):
    """An account of the machine; what it does not state is ``None``."""

    name: str
    sid: str
    disabled: bool | None = None
    locked: bool | None = None
    password_required: bool | None = None
    password_never_expires: bool | None = None
    expires: datetime | None = None
    last_logon: datetime | None = None
    description: str | None = None
    place: Place


@equal_apart_from("place")
class UserRight(Struct, frozen=True, kw_only=True):
    """A user right, such as ``SeDebugPrivilege``, and one of its holders: a SID, or a name where no SID is stated."""

    right: str
    holder: str
    place: Place


@equal_apart_from("place")
class SecuredPath(Struct, frozen=True, kw_only=True):
    """A file or folder with its access control list; one that is not there has none."""

    path: str
    exists: bool
    folder: bool
    access: SecurityDescriptor | None
    place: Place


class WindowsJobKind(StrEnum):
    """By what a machine runs something by itself."""

    SERVICE = "service"
    TASK = "task"


@equal_apart_from("place")
class WindowsJob(Struct, frozen=True, kw_only=True):
    """A service or scheduled task: as whom it runs (as stated, and by SID where that is told), and by which command line.

    `access` is the list of the service itself: who may reconfigure it.
    """

    kind: WindowsJobKind
    name: str
    account: str
    sid: str
    command: str
    enabled: bool
    access: SecurityDescriptor | None
    further_commands: tuple[str, ...] = ()  # what else it runs or loads: a library, the command of a failure
    keys: tuple[SecuredPath, ...] = ()  # of the registry, that say what it runs
    highest: bool = False  # a task: with all rights that its account has, without a prompt
    place: Place


@equal_apart_from("place")
class WindowsSession(Struct, frozen=True, kw_only=True):
    """A log-on session that is open: whose, of which kind ([MS-WMI] log-on types), and since when."""

    account: str
    sid: str
    kind: int
    since: datetime | None
    place: Place


@equal_apart_from("place")
class MembershipChange(Struct, frozen=True, kw_only=True):
    """A member that was put into a local group, or taken out, as the security log tells."""

    at: datetime
    group: str  # SID
    member: str  # SID
    added: bool
    by: str
    place: Place


class WindowsFacts(Struct, frozen=True, kw_only=True):
    """Everything that one Windows machine states.

    `sid` is that of the machine's own accounts, without the last number; empty where it is not told.  `settings` are registry values by
    key and name, in lower case, as text, each with its place.
    """

    subject: str
    taken: datetime
    system: str
    computer: str
    domain: str
    sid: str
    elevated: bool | None
    controller: bool = False  # of a domain
    groups: tuple[LocalGroup, ...]
    accounts: tuple[LocalAccount, ...]
    user_rights: tuple[UserRight, ...]
    jobs: tuple[WindowsJob, ...]
    paths: tuple[SecuredPath, ...]
    settings: dict[str, tuple[str, Place]]
    sessions: tuple[WindowsSession, ...]
    changes: tuple[MembershipChange, ...]
    gaps: tuple[Gap, ...]
