"""What a host states about itself, and the container of all facts of one host."""

from collections.abc import Mapping
from datetime import datetime
from enum import Enum, StrEnum
from functools import cached_property

from msgspec import Struct, field

from fidelitas.equality import equal_apart_from
from fidelitas.facts.accounts import Account, Group, GroupShadow, LoginLimits, Shadow
from fidelitas.facts.delegations import Delegations
from fidelitas.facts.directory import RuleSearch
from fidelitas.facts.gaps import Gap
from fidelitas.facts.logins import Logins
from fidelitas.facts.netgroups import Netgroup
from fidelitas.facts.programs import Programs
from fidelitas.facts.running import KernelSetting, LoginSession, Mount, Process
from fidelitas.facts.sudo import SudoPolicy
from fidelitas.text import Place

__all__ = [
    "AccessEntry",
    "AccessRules",
    "AccessTag",
    "DirectorySource",
    "FileKind",
    "FileState",
    "HostFacts",
    "MemberNaming",
    "NameService",
    "OperatingSystem",
    "SearchBase",
]


class OperatingSystem(Struct, frozen=True, kw_only=True):
    """os-release(5): `family` is the ID followed by what ID_LIKE names, nearest first."""

    name: str
    family: tuple[str, ...]
    version: str


@equal_apart_from("place")
class NameService(Struct, frozen=True, kw_only=True):
    """One database of nsswitch.conf(5) and the sources that it is looked up in, in order."""

    database: str
    sources: tuple[str, ...]
    place: Place


@equal_apart_from("place")
class AccessRules(Struct, frozen=True, kw_only=True):
    """Which accounts of a directory a host accepts (sssd.conf(5), access_provider); lists that are not stated are ``None``."""

    provider: str
    users: tuple[str, ...] | None = None
    groups: tuple[str, ...] | None = None
    refused_users: tuple[str, ...] = ()
    refused_groups: tuple[str, ...] = ()
    filter: str = ""
    order: tuple[str, ...] = ("filter",)  # of access_provider ldap
    policies: bool = False  # group policies of the domain refuse, too (sssd-ad(5), ad_gpo_access_control)
    place: Place


class MemberNaming(StrEnum):
    """How a host takes it that groups of a directory name their members."""

    ANY = "by names, by DNs, and as members say of themselves"
    NAMES = "by names (memberUid, RFC 2307)"
    DNS = "by DNs (RFC 2307bis)"
    LOGON = "by DNs, groups for distribution too, and by the groups of a logon (tokenGroups)"


class SearchBase(Struct, frozen=True, kw_only=True):
    """Where a host looks for the accounts or groups of a directory: below a DN, by a filter (RFC 4515), empty for all."""

    dn: str
    scope: str = "subtree"  # or onelevel, base
    filter: str = ""


class SidNumbers(Struct, frozen=True, kw_only=True):
    """How numbers are made of SIDs: slices of `size` from `least` up to `most` (sssd-ldap(5), ID MAPPING; of one slice idmap_rid(8))."""

    least: int = 200_000
    most: int = 2_000_200_000
    size: int = 200_000

    @property
    def slices(self) -> int:
        """How many there are: with one alone, which domain has it is not in the SIDs."""
        return (self.most - self.least) // self.size


@equal_apart_from("place")
class DirectorySource(Struct, frozen=True, kw_only=True):
    """A directory that a host asks, as its files name it: by realms, and by the bases of its tree.

    `form` is how the host writes a name of it (``{name}``, ``{domain}`` and ``{short}`` filled in); `numbers_made` says that it makes user
    IDs of SIDs itself, so that accounts without a number are there, too, by `sid_numbers` where it is known how.
    The host sees objects below `people` and `groups` alone, where
    these are stated, and sudo rules below `rules`, with numbers from `least_uid` and `least_gid` to `most` (0: no limit), and none of the
    names that are hidden.  Groups name members by `naming`, in `member_attribute` where that is by DNs; `nests` says whether groups within
    groups count, and `primary_leads_on` whether those round a primary group do.  `primary` is the primary group of all accounts, and
    `space` the sign that replaces a blank in names, where the host says so.
    `unread` are settings that bear on this and are not read.
    """

    name: str
    realms: tuple[str, ...] = ()
    bases: tuple[str, ...] = ()
    form: str = "{name}"
    numbers_made: bool = False
    sid_numbers: SidNumbers | None = None
    people: tuple[SearchBase, ...] = ()
    groups: tuple[SearchBase, ...] = ()
    rules: tuple[SearchBase, ...] = ()
    least_uid: int = 0
    least_gid: int = 0
    most: int = 0
    hidden_accounts: frozenset[str] = frozenset()
    hidden_groups: frozenset[str] = frozenset()
    naming: MemberNaming = MemberNaming.ANY
    member_attribute: str = "member"
    nests: bool = True
    primary_leads_on: bool = True
    primary: int | None = None
    lower_case: bool = False
    own_groups: bool = False  # each account has a group of its name and number (idmap_rid(8), auto_private_groups)
    own_primary: bool = False  # and that is its primary group (sssd.conf(5), auto_private_groups)
    primary_rid: int | None = None  # of the primary group of all accounts, whatever the directory states
    space: str = ""
    spares_names: bool = False  # such as have that sign already
    plain_names: bool = False  # names with signs that names of accounts do not have are left out (nslcd.conf(5), validnames)
    takes_rules: bool = True
    rule_search: RuleSearch | None = None
    unread: tuple[str, ...] = ()
    access: AccessRules | None = None
    place: Place

    @property
    def taking(self) -> tuple[object, ...]:
        """What is taken follows from this: all that is stated but who may log in."""
        return tuple(getattr(self, name) for name in self.__struct_fields__ if name not in ("access", "place"))


class FileKind(Enum):
    """What stands at a path."""

    FILE = "file"
    FOLDER = "folder"
    OTHER = "other"  # a device, a pipe, a socket
    ABSENT = "absent"

    __hash__ = object.__hash__


class AccessTag(StrEnum):
    """Whom an entry of an access control list is about (acl(5))."""

    USER = "user"
    GROUP = "group"
    MASK = "mask"
    OTHER = "other"


class AccessEntry(Struct, frozen=True, kw_only=True):
    """An entry of an access control list (acl(5)): `id` is ``None`` for the owner and owning group.

    `permissions` are the bits 4, 2 and 1 for reading, writing and searching or running.
    """

    tag: AccessTag
    id: int | None
    permissions: int


class FileState(Struct, frozen=True, kw_only=True):
    """What stands at a path: kind, permission bits, numeric owner and group; ``None`` where it could not be had.

    `read` says whether the evidence holds its content, `size` is in bytes.  `access` is empty where the mode says all, `digests` holds
    algorithm and hexadecimal value for those that were wanted.
    """

    path: str
    kind: FileKind
    mode: int | None = None
    uid: int | None = None
    gid: int | None = None
    size: int | None = None
    real: str | None = None  # where symbolic links led, if anywhere else
    read: bool = False
    access: tuple[AccessEntry, ...] = ()
    digests: tuple[tuple[str, str], ...] = ()


class HostFacts(Struct, frozen=True, kw_only=True, dict=True):
    """All facts of one host at one time."""

    subject: str
    taken: datetime
    host_name: str
    system: OperatingSystem | None
    accounts: tuple[Account, ...]
    shadows: tuple[Shadow, ...] | None  # None: the file could not be read, which is not the same as an empty one
    groups: tuple[Group, ...]
    group_shadows: tuple[GroupShadow, ...] | None
    login_limits: LoginLimits
    name_services: tuple[NameService, ...]
    policy: SudoPolicy
    files: tuple[FileState, ...]
    gaps: tuple[Gap, ...]
    taken_by: int = 0  # the user ID that the evidence was taken as
    addresses: tuple[str, ...] | None = None  # with the length of their networks; None: not known
    netgroups: tuple[Netgroup, ...] | None = None  # None: they come from elsewhere, or were not read
    live: bool = True  # False: a root folder, not the running host
    programs: Programs | None = None  # None: the files were not searched
    processes: tuple[Process, ...] | None = None  # None: not a running host, or not listed
    mounts: tuple[Mount, ...] | None = None
    kernel: tuple[KernelSetting, ...] = ()
    sudo_version: str | None = None
    packages: tuple[tuple[str, str], ...] = ()  # name and version of those that decide who becomes whom
    login_sessions: tuple[LoginSession, ...] = ()
    log_files: frozenset[str] = frozenset()  # where sudo and syslog write what concerns privilege, by their configuration
    logins: Logins = field(default_factory=Logins)
    delegations: Delegations = field(default_factory=Delegations)
    directories: tuple[DirectorySource, ...] = ()  # which directories it asks, in that order, as far as its files say so

    @cached_property
    def states(self) -> Mapping[str, FileState]:
        """What stands at each path that was looked at."""
        return {state.path: state for state in self.files}
