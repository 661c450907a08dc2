"""What a program amounts to when it runs as another account: the table in ``data/programs.toml``.

Knows names and argument patterns; nothing of policies.
"""

import re
import tomllib
from collections.abc import Iterator, Mapping, Sequence
from fnmatch import fnmatchcase
from functools import cache, lru_cache
from importlib.resources import files
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from fidelitas.facts import Command
from fidelitas.rights.linux.obeyed import obeyed_at
from fidelitas.rights.linux.sensitive import is_secret

__all__ = ["Power", "is_judged", "lesser_power_of", "power_of", "power_of_program"]


# Under which further names programs of the table are installed: python3.11, perl5.36.0, vim.basic, x86_64-linux-gnu-gcc-12.
_VARIANT = re.compile(
    r"^(?:x86_64|i[3-6]86|aarch64|arm)-linux-gnu(?:eabihf)?-|-x86_64-linux-gnu$|-?[0-9]*\.[0-9.]+$|(?<=[a-z])[0-9]+$|(?<=[a-z+])-[0-9]+$"
    r"|\.(?:basic|tiny|nox|athena|gtk3?|openbsd|traditional|findutils|plocate|mailutils|default|sysstat)$|-im[67](?:\.q[0-9]+(?:hdri)?)?$"
)


# Longer commands are rare, and are not remembered.
_LONG = 500


class Power(Struct, frozen=True, kw_only=True):
    """A program that hands over the account it runs as, under some arguments, with the reason.

    `escape` says that this is a feature of a program that is for something else, `noexec` that the NOEXEC tag stops it.
    """

    name: str
    arguments: tuple[str, ...]
    exceptions: tuple[str, ...]
    escape: bool
    noexec: bool
    reason: str
    instead: str | None = None  # what to write in a sudo rule in its place
    sudo_only: bool = False  # with the setuid bit of its package it checks its caller
    right: str = "root"  # or "read-secrets", "write-evidence", "none": what follows for a program that runs as root

    @property
    def full(self) -> bool:
        """Whether it gives the whole account that it runs as."""
        return self.right == "root"


@cache
def _stated() -> Mapping[str, Any]:
    return tomllib.loads(files("fidelitas.rights.linux").joinpath("data/programs.toml").read_text("utf-8"))


@cache
def _ordinary_words() -> frozenset[str]:
    return frozenset(_stated()["ordinary_words"])


@cache
def _table() -> Mapping[str, Sequence[Power]]:
    table: dict[str, list[Power]] = {}
    for entry in _stated()["program"]:
        for name in entry["name"]:
            power = Power(
                name=name,
                arguments=tuple(entry["arguments"]),
                exceptions=tuple(entry.get("except", ())),
                escape=entry["by"] == "escape",
                noexec=entry["noexec"],
                reason=entry["reason"],
                instead=entry.get("instead", ""),
                right=entry.get("right", "root"),
                sudo_only=entry.get("sudo_only", False),
            )
            table.setdefault(name, []).append(power)
    return table


def power_of(command: Command, *, noexec: bool = False) -> Power | None:
    """Return the power that a command of a policy amounts to, if that is the whole account; nothing where the table knows none.

    A digest in the rule fixes the file, not what the program does.
    """
    return next((power for power in _powers(command, noexec=noexec) if power.full), None)


def power_of_program(path: str) -> Power | None:
    """Return the power of a program that runs with more rights than its caller, whatever its arguments."""
    return next((power for power in _powers(Command(path=path), noexec=False) if power.full and not power.sudo_only), None)


def lesser_power_of(command: Command, *, noexec: bool = False) -> Power | None:
    """Return what a command of root's amounts to that is less than root: reading any file, or removing what is recorded."""
    found = next((power for power in _powers(command, noexec=noexec) if power.right not in ("root", "none")), None)
    return found or _of_a_secret(command)


def is_judged(path: str) -> bool:
    """Return whether the table says what a program gives, be it nothing (which counts in the system's folders alone, not of a namesake)."""
    powers = _rows(path)
    return any(power.right != "none" for power in powers) or (bool(powers) and path.startswith(_FOLDERS))


def _rows(path: str) -> Sequence[Power]:
    """Return what the table says of the program at a path, by its name; of an ordinary word only in the system's folders."""
    name = path.rpartition("/")[2]
    if name in _ordinary_words() and not path.startswith(_FOLDERS):
        return ()
    return _table().get(name) or _table().get(_VARIANT.sub("", name), ())


# Folders of programs: what the table knows of is, or may be, in them.
_FOLDERS = ("/usr/bin/", "/bin/", "/usr/sbin/", "/sbin/")
# By one of these a pattern of paths is tried: a shell, an editor, a copier of files.
_TRIED = (
    "bash",
    "sh",
    "dash",
    "python3",
    "perl",
    "vim",
    "vi",
    "env",
    "tee",
    "cp",
    "find",
    "su",
    "less",
    "tar",
    "awk",
    "visudo",
    "chroot",
    "mount",
)


def _named_by_pattern(path: str) -> str | None:
    """Return a program with power that a pattern, a folder or an expression for paths takes in, or nothing."""
    if path.endswith("/"):
        return next((name for name in _TRIED if path in _FOLDERS), None)
    if path.startswith("^"):
        loose = any(sign in path for sign in (".*", ".+", "[^"))
        return next((name for name in _TRIED if loose and any(path[1:].startswith(folder[:4]) for folder in _FOLDERS)), None)
    if any(sign in path for sign in "*?["):
        return next((name for name in _TRIED if any(fnmatchcase(folder + name, path) for folder in _FOLDERS)), None)
    return None


def _powers(command: Command, *, noexec: bool) -> Sequence[Power]:
    """Return the powers that a command amounts to: the same few are in the policies of many hosts."""
    stated = command.path, command.arguments
    if sum(map(len, filter(None, stated))) > _LONG:
        return tuple(_worked_out(*stated, noexec=noexec))
    return _known_powers(*stated, noexec)


@lru_cache(maxsize=4096)
def _known_powers(path: str, arguments: str | None, noexec: bool) -> Sequence[Power]:
    return tuple(_worked_out(path, arguments, noexec=noexec))


def _worked_out(path: str, arguments: str | None, *, noexec: bool) -> Iterator[Power]:
    named = _named_by_pattern(path)
    if named is not None:
        for power in _table().get(named, ()):
            if power.full and not (noexec and power.noexec):
                yield replace(power, reason=f"takes in {named}, which {power.reason}")
    name = path.rpartition("/")[2]
    for power in _rows(path):
        if not (noexec and power.noexec) and _fits(arguments, power):
            yield power
    written = _of_a_written_file(name, arguments)
    if written is not None:
        yield written


# Programs that write what they are given to a file that their arguments name; what is copied must be of the user's choice, too.
_FROM_INPUT = frozenset({"tee", "dd", "sponge", "patch", "sudoedit"})
_FROM_FILES = frozenset({"cp", "mv", "install", "ln", "rsync", "scp", "tar", "unzip", "cpio"})
_OF_USERS = ("/home/", "/tmp/", "/var/tmp/", "/dev/shm/", "/media/", "/mnt/")  # noqa: S108 where users have files


def _of_a_written_file(name: str, arguments: str | None) -> Power | None:
    """Return the power of writing what root obeys: the policy, account files, what cron or systemd runs."""
    if not arguments or (name not in _FROM_INPUT and name not in _FROM_FILES):
        return None
    if "*" in arguments and name in _FROM_INPUT and name != "sudoedit":
        reason = "writes any file: the star in its arguments matches slashes, dots and further words as well (sudoers(5), Wildcards)"
        return Power(name=name, arguments=(), exceptions=(), escape=False, noexec=False, reason=reason)
    words = [word.removeprefix("of=") for word in arguments.split()]
    theirs = any(word.startswith(_OF_USERS) or "*" in word or "?" in word for word in words)
    target = next((one for word in reversed(words) if word.startswith("/") and (one := obeyed_at(word.rstrip("/"), folder=False))), None)
    if target is None or (name in _FROM_FILES and not theirs):
        return None
    reason = f"writes what the user gives it to {target.path}: {target.why}"
    return Power(name=name, arguments=(), exceptions=(), escape=False, noexec=False, reason=reason)


def _of_a_secret(command: Command) -> Power | None:
    """Return the power of reading a secret that the rule names itself."""
    words = (command.arguments or "").split()
    secret = next((word for word in words if is_secret(word)), None)
    readers = [power for power in _rows(command.path) if power.right == "read-secrets"]
    copies = command.path.rpartition("/")[2] in _FROM_FILES
    if secret is None or not (readers or copies):
        return None
    reason = f"reads {secret}, which holds secrets of the system"
    return Power(name=secret, arguments=(), exceptions=(), escape=False, noexec=False, reason=reason, right="read-secrets")


def _fits(arguments: str | None, power: Power) -> bool:
    if arguments is None:
        return "any" in power.arguments
    if arguments == "":
        return "none" in power.arguments
    if any(fnmatchcase(arguments, pattern) for pattern in power.exceptions):
        return False
    return any(fnmatchcase(arguments, _pattern(pattern)) for pattern in power.arguments if pattern not in ("any", "none"))


def _pattern(pattern: str) -> str:
    r"""Return a pattern of the table for Python's matcher, which writes a literal star ``[*]`` where the table has ``\*``."""
    return pattern.replace("\\*", "[*]")
