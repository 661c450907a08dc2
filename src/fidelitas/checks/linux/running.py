"""Checks of what root runs by itself, and of settings of the host that others use to become root."""

import shlex
from collections.abc import Iterator, Mapping

from fidelitas.checks.check import Check, Found, check
from fidelitas.facts import Place
from fidelitas.findings import Severity
from fidelitas.rights.graph.links import PrincipalKind
from fidelitas.rights.linux.files import Writers
from fidelitas.rights.linux.host import HostRights
from fidelitas.rights.linux.policy_places import policy_places
from fidelitas.rights.linux.polkit import unasked_actions
from fidelitas.rights.linux.population import AccountKind
from fidelitas.rights.linux.writable import Weak, weak_places

__all__ = ["CHECKS"]


@check(
    "running.writable",
    Severity.CRITICAL,
    advice="Let root own the file and every folder above it, and remove write permission for others.",
)
def writable(rights: HostRights) -> Iterator[Found]:
    """Someone other than root can write something that root, or an account that leads to root, runs or reads as instructions.

    Anyone who can write it decides what that account runs: at the next cron run, service start or login.
    """
    full = rights.full_holders(PrincipalKind.ACCOUNT)
    policy = policy_places(rights.facts)  # sudo.writable-policy reports those
    for weak in weak_places(rights.facts, rights.population):
        if weak.at in policy and weak.path == policy[weak.at]:
            continue
        if not _someone(weak.who, rights) or (weak.account is not None and weak.account.name not in full):
            continue
        severity = Severity.MEDIUM if weak.condition else None if weak.account is None else Severity.HIGH
        place = Place(subject=rights.subject, path=weak.at)
        places = (place,) if weak.place == place else (place, weak.place)
        message = weak.what + (f" {weak.condition}" if weak.condition else "")
        at = shlex.quote(weak.at)
        yield Found(about=f"{weak.at}\0{weak.path}", message=message, places=places, safer=_mended(weak, at), severity=severity)


def _mended(weak: Weak, at: str) -> str:
    owner = "root" if weak.account is None else shlex.quote(weak.account.name)
    return f"chown {owner} {at}; chmod go-w {at}"


def _someone(who: Writers, rights: HostRights) -> bool:
    """Return whether there is anyone among those who can write: a group without members gives nobody anything."""
    return who.everyone or bool(who.uids) or any(rights.population.in_gid(gid) for gid in who.gids)


@check("running.unsafe-search-path", Severity.HIGH, advice="Use absolute paths only, of folders that only root can write.")
def unsafe_search_path(rights: HostRights) -> Iterator[Found]:
    """Root's search path contains the current folder.

    Anyone who stores a program named ls in a folder that root visits becomes root.
    """
    for folder in rights.facts.delegations.folders:
        if not folder.path.startswith("/"):
            yield Found(about=folder.path, message=f'root\'s search path contains "{folder.path}"', places=(folder.place,))


@check("running.nfs-root", Severity.MEDIUM, advice="Export with root_squash, and to named hosts only.")
def nfs_root(rights: HostRights) -> Iterator[Found]:
    """A folder is exported so that root of a client is root in it.

    Anyone who is root on a client, or can imitate the client's address, can store a setuid-root file there and become root on this
    host.
    """
    for export in rights.facts.delegations.exports:
        if "no_root_squash" in export.options:
            anyone = export.client == "*"
            readable = "ro" in export.options and "rw" not in export.options
            message = f"{export.path} is exported to {export.client} with no_root_squash{', read-only' if readable else ''}"
            severity = Severity.HIGH if anyone and not readable else None
            yield Found(about=f"{export.path}\0{export.client}", message=message, places=(export.place,), severity=severity)


@check("running.doas-without-password", Severity.HIGH, advice="Remove nopass, or name the few commands that need it.")
def doas_without_password(rights: HostRights) -> Iterator[Found]:
    """A doas rule allows every command as root without a password.

    Anyone who uses the open terminal, or takes over a process of the account, is root too.
    """
    for rule in rights.facts.delegations.doas or ():
        root = rule.identity in ("root", "0")
        if rule.permit and "nopass" in rule.options and rule.command is None and rule.target in (None, "root", "0") and not root:
            message = f"{rule.identity} may run everything as root without a password"
            yield Found(about=rule.text, message=message, places=(rule.place,), quote=rule.text, safer=rule.text.replace("nopass ", ""))


@check(
    "running.polkit-without-password",
    Severity.MEDIUM,
    advice="Use AUTH_ADMIN instead of YES, or name the one action that is meant.",
)
def polkit_without_password(rights: HostRights) -> Iterator[Found]:
    """A polkit rule or default allows administrators' actions without authentication.

    Actions that polkit guards, such as mounting, managing services and installing packages, lead to root.
    """
    services = {who.name for who in rights.population.identities if who.kind is AccountKind.SYSTEM}
    for rule in rights.facts.delegations.polkit:
        who = [*(f"group {name}" for name in rule.groups), *(name for name in rule.users if name not in services and name != "root")]
        if rule.answer == "yes" and who and not rule.actions:
            message = f"{', '.join(who)} may do everything that polkit guards, without a password"
            yield Found(about=", ".join(who), message=message, places=(rule.place,), severity=Severity.HIGH)
        elif rule.answer == "yes" and who and any(one.startswith(_BROAD) for one in rule.actions):
            message = f"{', '.join(who)} may do {', '.join(rule.actions)} without a password"
            severity = None if rule.users or any(rights.population.members(name) for name in rule.groups) else Severity.LOW
            yield Found(about=", ".join((*who, *rule.actions)), message=message, places=(rule.place,), severity=severity)
    for one in unasked_actions(rights.facts):
        whom = "users at the console" if one.condition else "any account"
        what = one.reason or f"pkexec runs {one.program} as root"
        severity = Severity.LOW if one.program else Severity.MEDIUM if one.condition else Severity.CRITICAL
        message = f"polkit allows {one.action.name} without a password to {whom}: {what}"
        yield Found(about=one.action.name, message=message, places=(one.action.place,), severity=severity)


# Actions that amount to root by themselves.
_BROAD = (
    "org.freedesktop.policykit.exec",
    "org.freedesktop.systemd1",
    "org.freedesktop.packagekit.package-install",
    "org.libvirt.unix.manage",
    "org.freedesktop.accounts",
)

# What a setting should be, and why it matters else (proc(5), sysctl documentation of the kernel).
_SETTINGS: Mapping[str, tuple[frozenset[str], str]] = {
    "kernel/yama/ptrace_scope": (frozenset({"1", "2", "3"}), "a process can read and change every other process of its account"),
    "fs/protected_hardlinks": (frozenset({"1"}), "any account can keep an old setuid file with a hard link"),
    "fs/protected_symlinks": (frozenset({"1"}), "links in shared folders lead root's programs astray"),
    "fs/suid_dumpable": (frozenset({"0", "2"}), "programs that run as root leave images of their memory that others can read"),
    "kernel/unprivileged_bpf_disabled": (frozenset({"1", "2"}), "any account can load programs into the kernel"),
}


@check("running.kernel-setting", Severity.LOW, advice="Set it in a file in /etc/sysctl.d.")
def kernel_setting(rights: HostRights) -> Iterator[Found]:
    """A kernel setting leaves a protection off.

    It is not a way to root; it makes others easier.
    """
    for setting in rights.facts.kernel:
        good = _SETTINGS.get(setting.name)
        if good is not None and setting.value not in good[0]:
            name = setting.name.replace("/", ".")
            message = f"{name} is {setting.value}: {good[1]}"
            yield Found(about=name, message=message, places=(setting.place,), safer=f"{name} = {min(good[0])}")


CHECKS: tuple[Check[HostRights], ...] = (
    writable,
    unsafe_search_path,
    nfs_root,
    doas_without_password,
    polkit_without_password,
    kernel_setting,
)
