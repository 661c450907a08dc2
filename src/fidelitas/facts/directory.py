"""What a directory states: accounts, and groups that can hold groups.

The accounts and groups are the same facts as a host's own; only the nesting is more.
"""

from dataclasses import dataclass, field

from fidelitas.facts.accounts import Account
from fidelitas.text import Place

__all__ = ["Directory", "DirectoryGroup", "DirectoryMember"]


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
    """The accounts and groups of one directory."""

    subject: str
    accounts: tuple[Account, ...]
    groups: tuple[DirectoryGroup, ...]
