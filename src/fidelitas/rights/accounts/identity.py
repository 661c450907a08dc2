"""One account of a host: what stands behind it, how it logs in, and the groups that it is in."""

from collections.abc import Mapping
from enum import Enum
from functools import cached_property

from msgspec import Struct
from msgspec.structs import force_setattr

from fidelitas.equality import equal_apart_from
from fidelitas.facts import ON_THE_WAY, Account, Group, Password, Place, Shadow

__all__ = ["AccountInBrief", "AccountKind", "AccountWithGroups", "Identity", "Login", "Membership", "synthetic_member"]


class AccountKind(Enum):
    """What stands behind an account."""

    ROOT = "root"
    PERSON = "person"
    SERVICE = "service"
    SYSTEM = "system"

    __hash__ = object.__hash__


class Login(Enum):
    """Whether an account can log in, as far as the account files tell."""

    PASSWORD = "with a password"  # noqa: S105
    FREELY = "without a password"
    NO_PASSWORD = "not with a password; keys were not read"  # noqa: S105
    KEY = "with a key"
    NEITHER = "no: no password and no key"
    REFUSED = "no: its shell refuses"
    EXPIRED = "no: expired"
    BARRED = "no: the access rules of the host refuse it"
    UNKNOWN = "not known: the shadow file was not read"

    __hash__ = object.__hash__

    @property
    def possible(self) -> bool | None:
        """Whether it can log in; ``None`` where that depends on what was not read."""
        if self in (Login.FREELY, Login.PASSWORD, Login.KEY):
            return True
        return False if self in (Login.NEITHER, Login.REFUSED, Login.EXPIRED, Login.BARRED) else None


class Membership(Struct, frozen=True, kw_only=True):
    """An account's place in a group: by the group file's list, its own primary group ID, or, where `nested`, by a directory."""

    group: Group
    primary: bool
    place: Place
    nested: bool = False


class AccountInBrief(Struct, frozen=True, kw_only=True):
    """What a list of holders shows of an account."""

    uid: int | None
    kind: AccountKind
    login: Login


class AccountWithGroups(Struct, frozen=True):
    """What stands over the routes of an account: with the names of its groups, each once."""

    brief: AccountInBrief
    groups: tuple[str, ...]


@equal_apart_from("gids")
class Identity(Struct, frozen=True, kw_only=True, dict=True):
    """One account of a host.

    `password` is ``None`` where the shadow file was not read; `of_directory` says that it comes from a directory, not from a file here.
    """

    name: str
    uid: int | None
    gid: int | None
    kind: AccountKind
    login: Login
    password: Password | None
    memberships: tuple[Membership, ...]
    account: Account | None  # None for a made-up member, by which a group's own rights are asked
    shadow: Shadow | None = None
    of_directory: bool = False
    gids: frozenset[int] = frozenset()  # worked out: all group IDs, the primary one included

    @property
    def in_brief(self) -> AccountInBrief:
        """What a list of holders shows of it."""
        return AccountInBrief(uid=self.uid, kind=self.kind, login=self.login)

    @property
    def with_groups(self) -> AccountWithGroups:
        """What stands over its routes."""
        return AccountWithGroups(self.in_brief, tuple(dict.fromkeys(one.group.name for one in self.memberships_here)))

    @cached_property
    def by_group(self) -> Mapping[int, Membership]:
        """How it is in each group, by the group's ID: a listed membership comes before the primary group."""
        primary = {one.group.gid: one for one in reversed(self.memberships) if one.primary}
        return primary | {one.group.gid: one for one in reversed(self.memberships) if not one.primary}

    @property
    def memberships_here(self) -> tuple[Membership, ...]:
        """Its groups that are groups of the host; those of a directory that only lead to others are left out."""
        return tuple(one for one in self.memberships if one.group.gid > ON_THE_WAY)

    def __post_init__(self) -> None:
        own = {one.group.gid for one in self.memberships}
        if self.gid is not None:
            own.add(self.gid)
        force_setattr(self, "gids", frozenset(own))


def synthetic_member(gid: int | None = None) -> Identity:
    """Return an account that nobody has, in one group or in none: by it a group's own rights, and anyone's, are asked."""
    return Identity(
        name="\0",  # a name that no account file can hold
        uid=None,
        gid=gid,
        kind=AccountKind.PERSON,
        login=Login.UNKNOWN,
        password=None,
        memberships=(),
        account=None,
    )
