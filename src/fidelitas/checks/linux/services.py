"""Checks of services that give root to others: sockets, exported folders, device rules, capabilities given at login."""

import re
from collections.abc import Iterator

from fidelitas.checks.check import Check, Found, check
from fidelitas.findings import Severity
from fidelitas.rights.linux.host import HostRights

__all__ = ["CHECKS"]


@check(
    "running.open-service",
    Severity.CRITICAL,
    advice="Let the service listen on its own socket for its group only, or ask for TLS client keys.",
)
def open_service(rights: HostRights) -> Iterator[Found]:
    """A service that runs anything as root listens for everyone.

    Anyone who can connect to a container or machine service starts a container with the folders of the host in it, as root.
    """
    for setting in rights.facts.delegations.services:
        yield Found(
            about=f"{setting.path}\0{setting.text}",
            message=f"{setting.path}: {setting.why}",
            places=(setting.place,),
            quote=setting.text,
            severity=Severity.HIGH if setting.less else None,
        )


@check("running.exported-home", Severity.MEDIUM, advice="Export to named hosts, read-only, or with Kerberos (sec=krb5).")
def exported_home(rights: HostRights) -> Iterator[Found]:
    """A folder is exported for writing as root, or with the homes of accounts in it.

    Anyone who mounts it, as any user ID of theirs, writes as root, or changes the start-up files and keys of those accounts.
    """
    homes = {who.account.home: who.name for who in rights.population.effective if who.account is not None and who.uid}
    for export in rights.facts.delegations.exports:
        if "ro" in export.options or "rw" not in export.options or any(one.startswith("sec=krb5") for one in export.options):
            continue
        anon = next((one.partition("=")[2] for one in export.options if one.startswith("anonuid=")), None)
        inside = [name for home, name in homes.items() if f"{home}/".startswith(export.path.rstrip("/") + "/")]
        squashed = "all_squash" in export.options
        if squashed and anon == "0":
            message = f"{export.path} is exported to {export.client} for writing as root (all_squash, anonuid=0)"
            yield Found(about=f"{export.path}\0{export.client}", message=message, places=(export.place,), severity=Severity.HIGH)
        elif inside and export.client in ("*", "") and (not squashed or anon is not None):
            message = f"{export.path} is exported to everyone for writing, with the homes of {', '.join(inside[:5])}"
            yield Found(about=f"{export.path}\0{export.client}", message=message, places=(export.place,), severity=Severity.HIGH)


@check("running.open-device", Severity.HIGH, advice="Remove MODE and GROUP for disks from the rule.")
def open_device(rights: HostRights) -> Iterator[Found]:
    """A rule of udev gives a disk, or the memory, to others.

    Anyone who can read the device reads every file, password hashes among them; anyone who can write it becomes root.
    """
    for path, text, place in rights.facts.delegations.devices:
        mode = re.search(r'MODE\s*:?=\s*"0?([0-7]{3})"', text)
        group = re.search(r'GROUP\s*:?=\s*"([^"]+)"', text)
        owner = re.search(r'OWNER\s*:?=\s*"([^"]+)"', text)
        if mode and int(mode[1], 8) & 0o006:
            yield Found(
                about=text,
                message=f"{path} gives disks to everyone (mode {mode[1]})",
                places=(place,),
                quote=text,
                severity=Severity.CRITICAL,
            )
        elif (group and group[1] not in _STOCK_GROUPS) or (owner and owner[1] != "root"):
            whom = f"group {group[1]}" if group else owner[1] if owner else ""
            yield Found(about=text, message=f"{path} gives disks to {whom}", places=(place,), quote=text)


# Groups to which distributions give devices of these kinds.
_STOCK_GROUPS = frozenset({"disk", "cdrom", "floppy", "tape", "optical", "root", "kmem", "storage", "sg"})


@check("login.capabilities", Severity.HIGH, advice="Remove the line from capability.conf, or the module from the PAM settings.")
def login_capabilities(rights: HostRights) -> Iterator[Found]:
    """PAM gives an account capabilities that amount to root at login.

    With ambient capabilities, or with a program that inherits them, the account does what only root may do.
    """
    if not any(rule.module == "pam_cap.so" for rules in rights.facts.logins.pam.values() for rule in rules):
        return
    for capabilities, users, place in rights.facts.logins.capabilities:
        strong = sorted(name for name in capabilities if name in _STRONG)
        if strong:
            message = f"{', '.join(users)} gets {', '.join(strong)} at login (pam_cap)"
            yield Found(about=f"{users}", message=message, places=(place,))


_STRONG = frozenset({
    "all", "cap_setuid", "cap_setgid", "cap_dac_override", "cap_dac_read_search", "cap_chown", "cap_fowner", "cap_sys_admin",
    "cap_sys_ptrace", "cap_sys_module", "cap_setfcap", "cap_sys_rawio", "cap_mknod", "cap_bpf", "cap_perfmon", "cap_sys_chroot",
})  # fmt: skip


CHECKS: tuple[Check[HostRights], ...] = (open_service, exported_home, open_device, login_capabilities)
