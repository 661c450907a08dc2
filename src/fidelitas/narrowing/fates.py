"""What becomes of a use in a narrower policy: kept as it is, replaced by another command, or not kept, and why.

Whether a program gives the account that it runs as, or secrets, is decided by the table of programs that holders and findings read,
and by who can write the program's file.  Nothing else is decided here.
"""

import re
from collections.abc import Mapping
from enum import StrEnum

from msgspec import Struct

from fidelitas.facts import Command, FileState, SudoRule, Tag
from fidelitas.narrowing.uses import Use
from fidelitas.rights.linux.files import above, writers_told
from fidelitas.rights.linux.obeyed import obeyed_at
from fidelitas.rights.linux.population import Population
from fidelitas.rights.linux.powers import lesser_power_of, power_of

__all__ = ["Fate", "FateKind", "decide_fate", "instead_of"]


class FateKind(StrEnum):
    """What becomes of a use."""

    KEPT = "kept"
    REPLACED = "replaced"  # by a command that does the same and gives nothing more
    GIVES_ROOT = "gives-root"  # the account that it runs as, secrets, or what is recorded
    BREAK_GLASS = "break-glass"  # the same, used on few days: kept apart, for people to decide
    DOUBTFUL = "doubtful"  # the line may be forged, and nothing is granted by it
    MASKED = "masked"  # part of the command is a secret that no policy may state
    NO_FORM = "no-form"  # sudoers has no form for it


class Fate(Struct, frozen=True):
    """What becomes of a use: `path` and `arguments` of what is allowed in its place, or the `reason` why nothing is."""

    kind: FateKind
    path: str = ""
    arguments: str = ""
    reason: str = ""


# Programs that show their output through a pager unless they are told not to, which starts any command.
_PAGED = frozenset(
    {
        "journalctl", "systemctl", "loginctl", "machinectl", "hostnamectl", "timedatectl", "localectl", "networkctl", "resolvectl",
        "busctl", "coredumpctl", "systemd-analyze", "systemd-cgls", "userdbctl", "homectl", "portablectl", "git",
    }
)  # fmt: skip
_EDITORS = re.compile(r"(?:r?vi|vim|rvim|nvim|vim\.(?:basic|tiny|nox)|view|nano|rnano|pico|emacs|ed|ex|joe|mcedit|jed|micro|ne)\Z")
_PAGERS = re.compile(r"(?:less|more|most|pg)\Z")
_FILES = re.compile(r"/[A-Za-z0-9_./@%+=-]+(?: /[A-Za-z0-9_./@%+=-]+)*\Z")
# Programs that change whose a file is and who may write it; modes that set the setuid or setgid bit.
_CHANGERS = frozenset({"chmod", "chown", "chgrp", "setfacl", "install"})
_SET_ID = re.compile(r"(?:0?[2-7][0-7]{3}|[ugoa]*[+=][rwxXt]*s[rwxXst]*)\Z")
_INTERPRETERS = re.compile(
    r"(?:(?:ba|da|a|k|mk|pdk|z|c|tc|fi)?sh|python[0-9.]*|perl[0-9.]*|ruby[0-9.]*|node|php[0-9.]*|lua[0-9.]*|tclsh[0-9.]*)\Z"
)
# Where accounts keep programs of their own.
_OF_USERS = ("/home/", "/tmp/", "/var/tmp/", "/dev/shm/", "/media/", "/mnt/", "/run/user/")  # noqa: S108


def decide_fate(use: Use, rule: SudoRule, states: Mapping[str, FileState], population: Population, *, rare: bool) -> Fate:
    """Return what becomes of a use that a rule allows."""
    if use.doubt:
        return Fate(FateKind.DOUBTFUL, reason=f"may be forged: {use.doubt}")
    if use.masked:
        return Fate(FateKind.MASKED, reason="part of it is a secret that is masked")
    path, arguments = use.path, use.arguments
    if path != "sudoedit" and not path.startswith("/"):
        return Fate(FateKind.NO_FORM, reason="its path is not an absolute one")
    if "" in use.words[1:]:
        return Fate(FateKind.NO_FORM, reason="an empty argument has no form in sudoers")
    reason = danger_of(path, arguments, states, population, noexec=rule.tag(Tag.EXEC) is False)
    if not reason:
        return Fate(FateKind.KEPT, path, arguments)
    other = instead_of(path, arguments)
    if other is not None and not danger_of(*other, states, population):
        return Fate(FateKind.REPLACED, *other, reason=reason)
    return Fate(FateKind.BREAK_GLASS if rare else FateKind.GIVES_ROOT, reason=reason)


def danger_of(path: str, arguments: str, states: Mapping[str, FileState], population: Population, *, noexec: bool = False) -> str:
    """Return why a command with just these arguments gives more than its purpose, or nothing."""
    command = Command(path=path, arguments=arguments)
    power = power_of(command, noexec=noexec) or lesser_power_of(command, noexec=noexec)
    if power is not None:
        return power.reason
    if path == "sudoedit":
        return ""
    name = path.rpartition("/")[2]
    words = arguments.split(" ")
    if name in ("su", "runuser"):
        return "becomes another account and runs any command as it (su(1), runuser(1))"
    if name in _CHANGERS:
        ruled = next((word for word in words if word.startswith("/") and obeyed_at(word.rstrip("/"), folder=False)), None)
        if ruled is not None:
            return f"changes who may write {ruled}, which root obeys"
        if name in ("chmod", "install") and any(map(_SET_ID.match, words)):
            return "makes a program that runs as its owner for everyone (chmod(1))"
    if _INTERPRETERS.match(name):
        script = next((word for word in words if word and not word.startswith("-")), "")
        if not script.startswith("/"):
            return "is an interpreter that takes its program from a place of the user's choice"
        return _written_by_others(path, states, population) or _written_by_others(script, states, population)
    return _written_by_others(path, states, population)


def _written_by_others(path: str, states: Mapping[str, FileState], population: Population) -> str:
    state = states.get(path)
    for at in dict.fromkeys((*above(path), *above(state.real or path if state is not None else path))):
        others = writers_told(states.get(at), population)
        if others:
            return f"is not root's alone: {at} {others}"
    if state is None and path.startswith(_OF_USERS):
        return "is a file in a place where accounts have files of their own"
    return ""


def instead_of(path: str, arguments: str) -> tuple[str, str] | None:
    """Return a command, as path and arguments, that serves the same purpose and starts no pager or editor as root; or nothing."""
    folder, _, name = path.rpartition("/")
    if name in _PAGED and "--no-pager" not in arguments.split(" "):
        return path, f"--no-pager {arguments}".rstrip()
    if _EDITORS.match(name) and _FILES.match(arguments):
        return "sudoedit", arguments
    if _PAGERS.match(name) and _FILES.match(arguments):
        return f"{folder}/cat", arguments
    return None
