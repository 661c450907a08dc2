"""What a directory states: accounts, and groups that can hold groups.

The accounts and groups are the same facts as a host's own; only the nesting is more.
"""

from datetime import datetime
from enum import StrEnum

from msgspec import Struct, field

from fidelitas.equality import equal_apart_from
from fidelitas.facts.accounts import Account
from fidelitas.facts.directory_control import DirectoryControl
from fidelitas.facts.gaps import Gap
from fidelitas.facts.netgroups import Netgroup
from fidelitas.facts.security import SecurityDescriptor
from fidelitas.facts.sudo import SudoPolicy
from fidelitas.text import Place

__all__ = [
    "ON_THE_WAY",
    "Directory",
    "DirectoryAccount",
    "DirectoryDomain",
    "DirectoryFacts",
    "DirectoryGroup",
    "DirectoryKind",
    "DirectoryMember",
    "HostAccessRule",
    "RuleSearch",
    "StatedGroup",
]


# Group IDs below this stand for groups that are no groups of a host, and only lead to others.
ON_THE_WAY = -1_000_000_000


@equal_apart_from("place")
class DirectoryMember(Struct, frozen=True, kw_only=True):
    """An account, or a group, that a group of the directory holds."""

    name: str
    is_group: bool
    place: Place


@equal_apart_from("place")
class DirectoryGroup(Struct, frozen=True, kw_only=True):
    """A group of a directory, with its own members only."""

    name: str
    gid: int
    members: tuple[DirectoryMember, ...]
    place: Place


@equal_apart_from("place")
class HostAccessRule(Struct, frozen=True, kw_only=True):
    """A rule of a directory on who may use which service of which host (host-based access); an empty list with `all_…` false is nobody's.

    `users`, `groups`, `hosts` and `services` are names.
    """

    name: str
    users: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    all_users: bool = False
    hosts: tuple[str, ...] = ()
    all_hosts: bool = False
    services: tuple[str, ...] = ()
    all_services: bool = False
    place: Place


class Directory(Struct, frozen=True, kw_only=True):
    """The accounts and groups that a host takes from a directory, and its sudo rules, where it has any.

    A number below zero stands for one that the directory does not state.  `barred` are the names of accounts that the host lets nobody log
    in by.  Groups that hold a primary group are its members' too only where it leads on.  Where a host takes several directories as one,
    the place of each account and group names its own.
    """

    subject: str
    accounts: tuple[Account, ...]
    groups: tuple[DirectoryGroup, ...]
    policy: SudoPolicy | None = None
    barred: frozenset[str] = frozenset()
    netgroups: tuple[Netgroup, ...] = ()
    primary_leads_on: bool = True
    rule_search: "RuleSearch | None" = None


class RuleSearch(Struct, frozen=True, kw_only=True):
    """How sssd looks for a directory's sudo rules: whether letters large and small differ, and rules for hosts by wildcards are found.

    Names of hosts are compared by the server: `exact_hosts` is of that.
    """

    exact: bool
    exact_hosts: bool
    wildcards: bool


class DirectoryKind(StrEnum):
    """What stands behind an object that a group can hold."""

    PERSON = "person"
    COMPUTER = "computer"
    SERVICE = "managed service account"
    ROLE = "role"  # organizationalRole and its like: an object that can be a member and log in where it has a password
    CONTACT = "contact"  # an address: it logs on nowhere
    FOREIGN = "of another domain"  # known by its SID alone


@equal_apart_from("member_of", "descriptor", "permissions_at", "place")
class DirectoryAccount(Struct, frozen=True, kw_only=True):
    """An account of a directory as it states it; flags that it does not state are ``None``.  `posix` is what a Unix host makes of it.

    `member_of` are the DNs of groups that the object itself says it is in, each with its place.
    """

    name: str
    dn: str
    kind: DirectoryKind = DirectoryKind.PERSON
    full_name: str = ""
    mail: str = ""
    employee: str = ""
    principal_name: str = ""  # userPrincipalName: name@realm
    member_of: tuple[tuple[str, Place], ...] = ()
    sid: str | None = None
    primary_rid: int | None = None
    disabled: bool | None = None
    password_never_expires: bool | None = None
    no_preauthentication: bool | None = None
    trusted_for_delegation: bool | None = None
    controller: bool = False  # of the domain, where delegation is how it works
    expires: datetime | None = None
    once_administrator: bool = False
    service_names: tuple[str, ...] = ()
    last_logon: datetime | None = None
    department: str = ""
    title: str = ""
    password_not_required: bool | None = None
    any_protocol: bool = False  # acts for others whom it has not heard of by Kerberos (protocol transition)
    delegates_to: tuple[str, ...] = ()  # services that it may call as those who use it
    acted_for_by: SecurityDescriptor | None = None  # who may call it as anyone
    password_read_by: SecurityDescriptor | None = None  # of a managed service account
    sid_history: tuple[str, ...] = ()
    descriptor: SecurityDescriptor | None = None
    permissions_at: Place | None = None  # where the descriptor is stated
    posix: Account | None = None
    place: Place

    @property
    def rid(self) -> str | None:
        """The last number of its SID, where that is one of a domain."""
        return _rid(self.sid)


@equal_apart_from("member_of", "descriptor", "permissions_at", "place")
class StatedGroup(Struct, frozen=True, kw_only=True):
    """A group of a directory as it states it: members by their DN, or by their name; each with its place.

    `security` is false of a distribution group, which gives its members nothing ([MS-ADTS] 2.2.12); ``None`` where no type is stated.
    `stated` is false of a group that is known only because others say that they are in it.
    """

    name: str
    dn: str
    sid: str | None = None
    security: bool | None = None
    stated: bool = True
    member_of: tuple[tuple[str, Place], ...] = ()
    gid: int | None = None
    members: tuple[tuple[str, Place], ...] = ()
    member_names: tuple[tuple[str, Place], ...] = ()
    member_attribute: str = "member"  # which holds the DNs of members (RFC 4519)
    once_administrative: bool = False
    descriptor: SecurityDescriptor | None = None
    permissions_at: Place | None = None  # where the descriptor is stated
    place: Place

    @property
    def rid(self) -> str | None:
        """The last number of its SID, where that is one of a domain."""
        return _rid(self.sid)


class DirectoryDomain(Struct, frozen=True, kw_only=True):
    """A domain that a directory names: its DNS name, and its short (NetBIOS) name."""

    realm: str
    short: str


class DirectoryFacts(Struct, frozen=True, kw_only=True):
    """Everything that one directory states."""

    subject: str
    taken: datetime
    accounts: tuple[DirectoryAccount, ...]
    groups: tuple[StatedGroup, ...]
    gaps: tuple[Gap, ...]
    policy: SudoPolicy | None = None
    domains: tuple[DirectoryDomain, ...] = ()
    access_rules: tuple[HostAccessRule, ...] | None = None  # None: it has no rules of this kind
    control: DirectoryControl = field(default_factory=DirectoryControl)
    netgroups: tuple[Netgroup, ...] = ()


def _rid(sid: str | None) -> str | None:
    return sid.rpartition("-")[2] if sid is not None and sid.startswith("S-1-5-21-") else None
