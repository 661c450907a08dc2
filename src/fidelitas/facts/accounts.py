"""Accounts, groups and the state of their passwords, as passwd(5), shadow(5), group(5), gshadow(5) and login.defs(5) state them.

Never a password hash: only what kind there is.
"""

from enum import Enum

from msgspec import Struct

from fidelitas.equality import equal_apart_from
from fidelitas.text import Place

__all__ = ["Account", "Group", "GroupShadow", "LoginLimits", "Password", "PasswordState", "Shadow"]


class PasswordState(Enum):
    """What a password field says about logging in with a password."""

    USABLE = "usable"  # there is a hash that some password matches
    EMPTY = "empty"  # no password is needed
    LOCKED = "locked"  # there may be a hash, but it is switched off with "!"
    NONE = "none"  # the field holds something that no password can match, such as "*"
    SHADOWED = "shadowed"  # passwd(5) "x": the shadow file says more

    __hash__ = object.__hash__


class Password(Struct, frozen=True, kw_only=True):
    """The state of a password field; `algorithm` is the name of the hash method where a hash is there."""

    state: PasswordState
    algorithm: str | None = None


@equal_apart_from("place")
class Account(Struct, frozen=True, kw_only=True):
    """A line of the passwd file."""

    name: str
    password: Password
    uid: int
    gid: int
    comment: str
    home: str
    shell: str
    place: Place


@equal_apart_from("place")
class Shadow(Struct, frozen=True, kw_only=True):
    """A line of the shadow file; all times are days since 1970-01-01, or ``None`` where the field is empty."""

    name: str
    password: Password
    last_change: int | None
    maximum_age: int | None
    inactivity: int | None
    expiry: int | None
    place: Place


@equal_apart_from("place")
class Group(Struct, frozen=True, kw_only=True):
    """A line of the group file."""

    name: str
    password: Password
    gid: int
    members: tuple[str, ...]
    place: Place


@equal_apart_from("place")
class GroupShadow(Struct, frozen=True, kw_only=True):
    """A line of the gshadow file: administrators may add and remove members, see gpasswd(1)."""

    name: str
    password: Password
    administrators: tuple[str, ...]
    members: tuple[str, ...]
    place: Place


class LoginLimits(Struct, frozen=True, kw_only=True):
    """The range of user IDs that the host itself gives to people: UID_MIN and UID_MAX of login.defs(5)."""

    uid_min: int | None = None
    uid_max: int | None = None
