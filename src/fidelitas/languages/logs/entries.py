"""Lines of syslog: traditional (RFC 3164), with times of ISO 8601, and RFC 5424.

Knows where a line says when, where and which program; not what programs say.  Works on blocks of bytes of whole lines: one compiled
expression finds the lines of the programs that matter, and the lines between are only counted.
"""

import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

__all__ = ["PROGRAMS", "SUDO", "Idle", "Line", "first_stamp", "lines_that_matter"]

# The programs whose lines concern privilege.
PROGRAMS = (
    "sudo", "su", "sshd", "sshd-session", "login", "useradd", "usermod", "userdel", "groupadd", "groupmod", "groupdel", "gpasswd", "passwd",
    "chpasswd", "chage", "chsh", "chfn", "newusers", "pkexec", "doas", "CRON", "cron", "crond", "CROND", "crontab", "sudoedit", "sudo.ws",
    "sudo-rs", "su-rs", "runuser", "sshd-auth", "polkitd", "polkit-agent-helper-1", "run0", "sudo_logsrvd", "vipw", "vigr", "chgpasswd",
    "groupmems", "adduser", "addgroup", "deluser", "delgroup", "ksu", "dropbear",
)  # fmt: skip
# The names under which sudo logs.
SUDO = frozenset({"sudo", "sudoedit", "sudo.ws", "sudo-rs", "sudo-i", "sudo_logsrvd"})
_STAMP = rb"([A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d|\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?)"
_NAMES = "|".join(sorted(PROGRAMS, key=len, reverse=True)).encode()
_LINE = re.compile(
    rb"^(?:<\d{1,3}>(?:1 )?)?" + _STAMP + rb" ([^ \n]+) (" + _NAMES + rb")"
    rb"(?:\[(\d+)\])?( (?:\d+|-) - (?:-|(?:\[[^\]\n]*\])+) ?|: ?| +)([^\n]*)",
    re.MULTILINE,
)
_PROCESS = re.compile(rb" (\d+) - ")
_SHORT_HEAD = len(": ")
_NINE = 57  # the last digit of ASCII
_HOUR_ISO, _HOUR_TRADITIONAL = 13, 9  # bytes of a stamp up to the minutes


class Line(NamedTuple):
    """One line of a program that matters, as it is written."""

    number: int
    stamp: bytes
    host: bytes
    program: bytes
    pid: bytes
    message: bytes


def first_stamp(blocks: Iterable[bytes]) -> str:
    """Return the first stamp of the lines that matter, empty where there is none."""
    return next((line.stamp.decode() for line in lines_that_matter(blocks)), "")


def lines_that_matter(blocks: Iterable[bytes], idle: "Idle | None" = None) -> Iterator[Line]:
    """Yield the lines of programs that matter; blocks are of whole lines.

    With `idle`, lines that are known to concern no privilege are left out and counted, block by block.
    """
    number = 1
    for block in blocks:
        counted = 0  # up to which byte the lines of the block were counted
        for found in _LINE.finditer(block):
            stamp, host, program, pid, head, message = found.groups()
            if idle is not None and message.startswith(idle.beginnings):
                idle.count(stamp)
                continue
            start = found.start()
            number += block.count(b"\n", counted, start)
            counted = start
            yield Line(number, stamp, host, program, _process(head) if pid is None else pid, message)
        number += block.count(b"\n", counted) + (0 if block.endswith(b"\n") or not block else 1)
        if idle is not None:
            idle.report()


class Idle:
    """Counts lines whose message begins in a way that concerns no privilege; `seen` is called with a stamp of each hour and how many."""

    def __init__(self, beginnings: Iterable[bytes], seen: Callable[[bytes, int], None]) -> None:
        self.beginnings = tuple(beginnings)
        self._seen = seen
        self._stamps: dict[bytes, bytes] = {}
        self._counts: Counter[bytes] = Counter()

    def count(self, stamp: bytes) -> None:
        """Count one line."""
        hour = stamp[: _HOUR_ISO if stamp[0] <= _NINE else _HOUR_TRADITIONAL]
        self._stamps.setdefault(hour, stamp)
        self._counts[hour] += 1

    def report(self) -> None:
        """Report what was counted in a block, once its other lines were yielded."""
        for hour, stamp in self._stamps.items():
            self._seen(stamp, self._counts[hour])
        self._stamps.clear()
        self._counts.clear()


def _process(head: bytes) -> bytes:
    """Return the process ID where it is a field after the program's name (RFC 5424)."""
    apart = _PROCESS.match(head) if len(head) > _SHORT_HEAD else None
    return apart[1] if apart else b""
