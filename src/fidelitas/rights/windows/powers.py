"""What the built-in groups and the user rights of Windows amount to.

By the documentation of security identifiers and of user rights assignment; whether it is stated or follows by a mechanism is told apart.
"""

from typing import NamedTuple

from fidelitas.rights.graph.links import RightKind, Strength

__all__ = ["GROUP_POWERS", "USER_RIGHT_POWERS", "Power"]


class Power(NamedTuple):
    """A right, the clause that completes "P → right because …", how sure it is, and the English name of a built-in group that has it."""

    right: RightKind
    because: str
    strength: Strength = Strength.CERTAIN
    group: str | None = None


_ADMIN, _SECRETS, _EVIDENCE, _LOGS = RightKind.ADMIN, RightKind.READ_SECRETS, RightKind.WRITE_EVIDENCE, RightKind.READ_EVIDENCE

# By the SID of the group, whatever it is called.
GROUP_POWERS = {
    "S-1-5-32-544": Power(_ADMIN, "administers the machine", Strength.DIRECT, group="Administrators"),
    "S-1-5-32-549": Power(_ADMIN, "changes services, which run as the system", group="Server Operators"),
    "S-1-5-32-550": Power(_ADMIN, "loads printer drivers into the system", group="Print Operators"),
    "S-1-5-32-551": Power(_SECRETS, "reads any file, the machine's password hashes among them", group="Backup Operators"),
    "S-1-5-32-573": Power(_LOGS, "reads the event logs", Strength.DIRECT, group="Event Log Readers"),
    "S-1-5-32-578": Power(_ADMIN, "opens the disks of every virtual machine, and so the host", group="Hyper-V Administrators"),
}
USER_RIGHT_POWERS = {
    "SeDebugPrivilege": Power(_ADMIN, "writes into any process, the system's too (user right SeDebugPrivilege)"),
    "SeTcbPrivilege": Power(_ADMIN, "acts as part of the system (user right SeTcbPrivilege)"),
    "SeCreateTokenPrivilege": Power(_ADMIN, "may create tokens of any account (user right SeCreateTokenPrivilege)"),
    "SeAssignPrimaryTokenPrivilege": Power(_ADMIN, "starts processes with tokens of others (user right SeAssignPrimaryTokenPrivilege)"),
    "SeImpersonatePrivilege": Power(
        _ADMIN, "takes the token of a system service that connects to one of its processes (user right SeImpersonatePrivilege)"
    ),
    "SeLoadDriverPrivilege": Power(_ADMIN, "loads drivers into the kernel (user right SeLoadDriverPrivilege)"),
    "SeTakeOwnershipPrivilege": Power(_ADMIN, "takes over any file or service (user right SeTakeOwnershipPrivilege)"),
    "SeRestorePrivilege": Power(_ADMIN, "writes any file, whatever its list says (user right SeRestorePrivilege)"),
    "SeManageVolumePrivilege": Power(_ADMIN, "writes to the volume below its files (user right SeManageVolumePrivilege)"),
    "SeRelabelPrivilege": Power(_ADMIN, "relabels objects of the system as its own (user right SeRelabelPrivilege)"),
    "SeBackupPrivilege": Power(_SECRETS, "reads any file, the machine's password hashes among them (user right SeBackupPrivilege)"),
    "SeTrustedCredManAccessPrivilege": Power(
        _SECRETS, "reads the passwords that accounts have stored (user right SeTrustedCredManAccessPrivilege)"
    ),
    "SeEnableDelegationPrivilege": Power(
        _ADMIN, "may trust accounts to act for others, administrators of the domain among them (user right SeEnableDelegationPrivilege)"
    ),
    "SeSecurityPrivilege": Power(_EVIDENCE, "clears the security log (user right SeSecurityPrivilege)"),
    "SeAuditPrivilege": Power(_EVIDENCE, "may write entries into the security log (user right SeAuditPrivilege)"),
}
