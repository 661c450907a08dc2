"""What a directory states: accounts, and groups that can hold groups.

The accounts and groups are the same facts as a host's own; only the nesting is more.
"""

from dataclasses import dataclass, field
from datetime import datetime

from fidelitas.facts.accounts import Account
from fidelitas.facts.gaps import Gap
from fidelitas.facts.sudo import SudoPolicy
from fidelitas.text import Place

__all__ = ["Directory", "DirectoryAccount", "DirectoryFacts", "DirectoryGroup", "DirectoryMember", "StatedGroup"]


@dataclass(frozen=True, slots=True, kw_only=True)
class DirectoryMember:
    """An account, or a group, that a group of the directory holds."""

    name: str
    is_group: bool
    place: Place = field(compare=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class DirectoryGroup:
    """A group of a directory, with its own members only."""

    name: str
    gid: int
    members: tuple[DirectoryMember, ...]
    place: Place = field(compare=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class Directory:
    """The accounts and groups of one directory, and its sudo rules, where it has any."""

    subject: str
    accounts: tuple[Account, ...]
    groups: tuple[DirectoryGroup, ...]
    policy: SudoPolicy | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class DirectoryAccount:
    """An account of a directory as it states it; flags that it does not state are ``None``.  `posix` is what a Unix host makes of it."""

    name: str
    dn: str
    sid: str | None = None
    primary_rid: int | None = None
    disabled: bool | None = None
    password_never_expires: bool | None = None
    no_preauthentication: bool | None = None
    trusted_for_delegation: bool | None = None
    expires: datetime | None = None
    once_administrator: bool = False
    service_names: tuple[str, ...] = ()
    last_logon: datetime | None = None
    department: str = ""
    title: str = ""
    posix: Account | None = None
    place: Place = field(compare=False)

    @property
    def rid(self) -> str | None:
        """The last number of its SID, where that is one of a domain."""
        return _rid(self.sid)


@dataclass(frozen=True, slots=True, kw_only=True)
class StatedGroup:
    """A group of a directory as it states it: members by their DN, or by their name; each with its place."""

    name: str
    dn: str
    sid: str | None = None
    gid: int | None = None
    members: tuple[tuple[str, Place], ...] = ()
    member_names: tuple[tuple[str, Place], ...] = ()
    once_administrative: bool = False
    place: Place = field(compare=False)

    @property
    def rid(self) -> str | None:
        """The last number of its SID, where that is one of a domain."""
        return _rid(self.sid)


@dataclass(frozen=True, slots=True, kw_only=True)
class DirectoryFacts:
    """Everything that one directory states."""

    subject: str
    taken: datetime
    accounts: tuple[DirectoryAccount, ...]
    groups: tuple[StatedGroup, ...]
    gaps: tuple[Gap, ...]
    policy: SudoPolicy | None = None


def _rid(sid: str | None) -> str | None:
    return sid.rpartition("-")[2] if sid is not None and sid.startswith("S-1-5-21-") else None
