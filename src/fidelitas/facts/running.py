"""What is in force on a running host: processes with the groups that they really have, mounts, kernel settings."""

from dataclasses import dataclass, field
from datetime import datetime

from fidelitas.text import Place

__all__ = ["KernelSetting", "LoginSession", "Mount", "Process"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Process:
    """A live process: real, effective and saved user and group IDs, its supplementary groups as the kernel has them.

    `login_uid` is the user ID of the log-in that it descends from (credentials of audit), ``None`` where there is none.
    """

    pid: int
    parent: int
    uids: tuple[int, int, int]
    gids: tuple[int, int, int]
    groups: frozenset[int]
    name: str
    login_uid: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class LoginSession:
    """Someone who is logged on (utmp(5)): `host` is where from, empty for the machine itself."""

    account: str
    terminal: str
    host: str
    pid: int
    since: datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class Mount:
    """A mounted file system (proc(5), mountinfo)."""

    path: str
    file_system: str
    options: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class KernelSetting:
    """A setting of the kernel, by its path below /proc/sys."""

    name: str
    value: str
    place: Place = field(compare=False)
