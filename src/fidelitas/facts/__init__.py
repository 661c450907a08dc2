"""The vocabulary of facts: what the evidence of a host states, each statement with its place.

Facts are symbolic: a policy names a group, and who is in that group is another fact, perhaps of another subject.  What follows from
them is the business of :mod:`fidelitas.rights`.

Glossary
--------
estate
    everything under audit: hosts, directories, databases
subject
    one thing of the estate that evidence is taken from
evidence
    the raw material of one subject at one time: files and listings, with a manifest and hashes
survey
    one dated pass over the estate; it adds one evidence bundle per subject to the ledger
ledger
    where surveys live
fact
    one typed statement read out of evidence, with its place (subject, path, line, column)
gap
    evidence that was wanted and could not be had, with the reason; a fact like any other, so that it reaches the reports
link
    one thing that a principal can do to become, or act as, something else; has conditions and a place
route
    a chain of links from an account to a right
holding
    account × right × subject, with its routes: the row that an auditor reads
finding
    one risky or unexpected thing, with severity, evidence, why it matters, and what to do

"Not stated" is ``None``, never ``0``, ``""`` or "no".  Places do not count when facts are compared: a moved line is not a change.
"""

from fidelitas.facts.accounts import Account, Group, GroupShadow, LoginLimits, Password, PasswordState, Shadow
from fidelitas.facts.database import (
    AccessRule,
    DatabaseExtension,
    DatabaseFacts,
    DatabaseGrant,
    DatabaseObject,
    DatabaseRole,
    DatabaseSession,
    DefaultPrivilege,
    EventTrigger,
    IdentityMap,
    Rewrite,
    RoleMembership,
    Routine,
    RowPolicy,
    Trigger,
    TriggerMaker,
    UserMapping,
)
from fidelitas.facts.delegations import Delegations, DoasRule, NfsExport, OpenService, PolkitAction, PolkitRule, SubordinateRange, Trust
from fidelitas.facts.directory import (
    ON_THE_WAY,
    Directory,
    DirectoryAccount,
    DirectoryDomain,
    DirectoryFacts,
    DirectoryGroup,
    DirectoryKind,
    DirectoryMember,
    HostAccessRule,
    RuleSearch,
    StatedGroup,
)
from fidelitas.facts.directory_control import (
    CertificateAuthority,
    CertificateTemplate,
    Container,
    ContainerKind,
    DirectoryControl,
    DomainTrust,
    GroupPolicy,
    ServerBy,
    ServerRule,
    ServerRules,
    Who,
)
from fidelitas.facts.events import LOGIN_SERVICES, NOWHERE, Change, Event, EventKind, TimeJump, is_ordinary_login
from fidelitas.facts.gaps import Gap, GapKind
from fidelitas.facts.host import (
    AccessEntry,
    AccessRules,
    AccessTag,
    DirectorySource,
    FileKind,
    FileState,
    HostFacts,
    MemberNaming,
    NameService,
    OperatingSystem,
    SearchBase,
    SidNumbers,
)
from fidelitas.facts.hours import hour_of
from fidelitas.facts.jobs import Job, JobKind, SearchFolder
from fidelitas.facts.logins import AuthorizedKey, KeptPassword, LentGroups, Logins, PamRule, PamTask, PrivateKey, SshdSetting
from fidelitas.facts.mariadb import AccountGrant, DatabaseAccount, DefinerObject, GrantScope, MariadbFacts, ProxyGrant, RoleGrant
from fidelitas.facts.netgroups import Netgroup
from fidelitas.facts.programs import CapableFile, Packaged, Programs, SetIdFile
from fidelitas.facts.rows import Rows
from fidelitas.facts.running import KernelSetting, LoginSession, Mount, Process
from fidelitas.facts.security import AccessControlEntry, SecurityDescriptor
from fidelitas.facts.sudo import (
    AliasKind,
    Command,
    CommandOptions,
    DefaultScope,
    Member,
    MemberKind,
    PolicyFile,
    PolicyFileState,
    SudoAlias,
    SudoDefault,
    SudoPolicy,
    SudoRule,
    Tag,
    joined_policies,
)
from fidelitas.facts.windows import (
    LocalAccount,
    LocalGroup,
    LocalMember,
    MembershipChange,
    SecuredPath,
    UserRight,
    WindowsFacts,
    WindowsJob,
    WindowsJobKind,
    WindowsSession,
)
from fidelitas.text import Place

__all__ = [
    "LOGIN_SERVICES",
    "NOWHERE",
    "ON_THE_WAY",
    "AccessControlEntry",
    "AccessEntry",
    "AccessRule",
    "AccessRules",
    "AccessTag",
    "Account",
    "AccountGrant",
    "AliasKind",
    "AuthorizedKey",
    "CapableFile",
    "CertificateAuthority",
    "CertificateTemplate",
    "Change",
    "Command",
    "CommandOptions",
    "Container",
    "ContainerKind",
    "DatabaseAccount",
    "DatabaseExtension",
    "DatabaseFacts",
    "DatabaseGrant",
    "DatabaseObject",
    "DatabaseRole",
    "DatabaseSession",
    "DefaultPrivilege",
    "DefaultScope",
    "DefinerObject",
    "Delegations",
    "Directory",
    "DirectoryAccount",
    "DirectoryControl",
    "DirectoryDomain",
    "DirectoryFacts",
    "DirectoryGroup",
    "DirectoryKind",
    "DirectoryMember",
    "DirectorySource",
    "DoasRule",
    "DomainTrust",
    "Event",
    "EventKind",
    "EventTrigger",
    "FileKind",
    "FileState",
    "Gap",
    "GapKind",
    "GrantScope",
    "Group",
    "GroupPolicy",
    "GroupShadow",
    "HostAccessRule",
    "HostFacts",
    "IdentityMap",
    "Job",
    "JobKind",
    "KeptPassword",
    "KernelSetting",
    "LentGroups",
    "LocalAccount",
    "LocalGroup",
    "LocalMember",
    "LoginLimits",
    "LoginSession",
    "Logins",
    "MariadbFacts",
    "Member",
    "MemberKind",
    "MemberNaming",
    "MembershipChange",
    "Mount",
    "NameService",
    "Netgroup",
    "NfsExport",
    "OpenService",
    "OperatingSystem",
    "Packaged",
    "PamRule",
    "PamTask",
    "Password",
    "PasswordState",
    "Place",
    "PolicyFile",
    "PolicyFileState",
    "PolkitAction",
    "PolkitRule",
    "PrivateKey",
    "Process",
    "Programs",
    "ProxyGrant",
    "Rewrite",
    "RoleGrant",
    "RoleMembership",
    "Routine",
    "RowPolicy",
    "Rows",
    "RuleSearch",
    "SearchBase",
    "SearchFolder",
    "SecuredPath",
    "SecurityDescriptor",
    "ServerBy",
    "ServerRule",
    "ServerRules",
    "SetIdFile",
    "Shadow",
    "SidNumbers",
    "SshdSetting",
    "StatedGroup",
    "SubordinateRange",
    "SudoAlias",
    "SudoDefault",
    "SudoPolicy",
    "SudoRule",
    "Tag",
    "TimeJump",
    "Trigger",
    "TriggerMaker",
    "Trust",
    "UserMapping",
    "UserRight",
    "Who",
    "WindowsFacts",
    "WindowsJob",
    "WindowsJobKind",
    "WindowsSession",
    "hour_of",
    "is_ordinary_login",
    "joined_policies",
]
