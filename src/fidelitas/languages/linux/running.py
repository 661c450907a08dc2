"""What the probe lists of a running host: processes, mounts, kernel settings, log-in IDs, the version of sudo.

Knows the forms of the listings (docs/evidence-format.md; proc(5)).  A line that is not in the form is skipped: the kernel wrote it, and
a process that ended meanwhile leaves half a one.
"""

import re
from collections.abc import Iterator, Mapping

from fidelitas.facts import KernelSetting, Mount, Place, Process
from fidelitas.text import decode

__all__ = ["read_kernel_settings", "read_mounts", "read_packages", "read_processes", "read_sudo_version"]

_IDS = re.compile(r"[0-9]{1,10}(?: [0-9]{1,10})*\Z")
_OCTAL = re.compile(r"\\([0-7]{3})")
_VERSION = re.compile(r"Sudo version ([0-9][0-9A-Za-z.]*)")


def _numbers(text: str) -> tuple[int, ...]:
    return tuple(map(int, text.split(" "))) if _IDS.match(text) else ()


def read_processes(listings: Mapping[str, bytes]) -> tuple[Process, ...] | None:
    """Return the live processes, or ``None`` where they were not listed (a root folder)."""
    if "processes" not in listings:
        return None
    logins = dict(_pairs(decode(listings.get("login-ids", b""))))
    return tuple(_processes(decode(listings["processes"]), logins))


def _pairs(text: str) -> Iterator[tuple[int, int]]:
    for line in text.split("\n"):
        pid, _, uid = line.partition("\t")
        numbers = _numbers(f"{pid} {uid}")
        if len(numbers) == 2:
            yield numbers[0], numbers[1]


def _processes(text: str, logins: Mapping[int, int]) -> Iterator[Process]:
    """line = pid TAB ppid TAB real effective saved TAB the same of groups TAB { group } TAB name"""
    for line in text.split("\n"):
        row = line.split("\t", 5)
        if len(row) != 6:
            continue
        pids, uids, gids = _numbers(f"{row[0]} {row[1]}"), _numbers(row[2]), _numbers(row[3])
        if len(pids) == 2 and len(uids) == 3 and len(gids) == 3:
            yield Process(
                pid=pids[0],
                parent=pids[1],
                uids=(uids[0], uids[1], uids[2]),
                gids=(gids[0], gids[1], gids[2]),
                groups=frozenset(_numbers(row[4])),
                name=row[5],
                login_uid=logins.get(pids[0]),
            )


def read_mounts(content: bytes) -> tuple[Mount, ...]:
    """Return the mounts of mountinfo, in its order."""
    return tuple(_mounts(decode(content)))


def _mounts(text: str) -> Iterator[Mount]:
    """line = ID parent device root path options { optional } "-" kind source super-options (proc(5))"""
    for line in text.split("\n"):
        words = line.split(" ")
        if "-" in words[6:] and len(words) > words.index("-", 6) + 1:
            path = _OCTAL.sub(lambda found: chr(int(found[1], 8)), words[4])
            yield Mount(path=path, file_system=words[words.index("-", 6) + 1], options=tuple(words[5].split(",")))


def read_kernel_settings(content: bytes, origin: Place) -> tuple[KernelSetting, ...]:
    """Return the settings that were listed."""
    rows = (line.partition("\t") for line in decode(content).split("\n"))
    return tuple(
        KernelSetting(name=name, value=value.strip(), place=Place(subject=origin.subject, path=f"/proc/sys/{name}"))
        for name, tab, value in rows
        if tab
    )


def read_packages(content: bytes) -> tuple[tuple[str, str], ...]:
    """Return name and version of the packages that were listed."""
    rows = (line.partition("\t") for line in decode(content).split("\n"))
    return tuple((name, version.strip()) for name, tab, version in rows if tab)


def read_sudo_version(content: bytes) -> str | None:
    """Return the version that sudo tells of itself, if it tells any."""
    found = _VERSION.match(decode(content))
    return found[1] if found else None
