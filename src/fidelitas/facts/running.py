"""What is in force on a running host: processes with the groups that they really have, mounts, kernel settings."""

from datetime import datetime

from msgspec import Struct

from fidelitas.equality import equal_apart_from
from fidelitas.text import Place

__all__ = ["KernelSetting", "LoginSession", "Mount", "Process"]


class Process(Struct, frozen=True, kw_only=True):
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


class LoginSession(Struct, frozen=True, kw_only=True):
    """Someone who is logged on (utmp(5)): `host` is where from, empty for the machine itself."""

    account: str
    terminal: str
    host: str
    pid: int
    since: datetime


class Mount(Struct, frozen=True, kw_only=True):
    """A mounted file system (proc(5), mountinfo)."""

    path: str
    file_system: str
    options: tuple[str, ...]


@equal_apart_from("place")
class KernelSetting(Struct, frozen=True, kw_only=True):
    """A setting of the kernel, by its path below /proc/sys."""

    name: str
    value: str
    place: Place
