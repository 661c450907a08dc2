"""Lines of syslog: traditional (RFC 3164), with times of ISO 8601, and RFC 5424.

Knows where a line says when, where and which program; not what programs say.  Works on blocks of bytes and takes out the lines of programs
that matter, which are few: the cost of the others is that of looking for a line's beginning.
"""

import re
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from fidelitas.text import decode

__all__ = ["PROGRAMS", "Entry", "read_entries"]

# The programs whose lines concern privilege.
PROGRAMS = (
    "sudo", "su", "sshd", "sshd-session", "login", "useradd", "usermod", "userdel", "groupadd", "groupmod", "groupdel", "gpasswd", "passwd",
    "chpasswd", "chage", "chsh", "chfn", "newusers", "pkexec", "doas", "CRON", "cron", "crond",
)  # fmt: skip
_STAMP = rb"(?P<stamp>[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d|\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?)"
_NAMES = "|".join(sorted(PROGRAMS, key=len, reverse=True)).encode()
_LINE = re.compile(
    rb"^(?:<\d{1,3}>(?:1 )?)?" + _STAMP + rb" (?P<host>[^ \n]+) (?P<program>" + _NAMES + rb")"
    rb"(?:\[(?P<pid>\d+)\])?(?P<head> (?:\d+|-) - (?:-|(?:\[[^\]\n]*\])+) ?|: ?| +)(?P<message>[^\n]*)",
    re.MULTILINE,
)
_PROCESS = re.compile(rb" (\d+) - ")


class Entry(NamedTuple):
    """One line of a program that matters: the stamp as it is written, and the message."""

    line: int
    stamp: str
    host: str
    program: str
    pid: int | None
    message: str


def read_entries(blocks: Iterable[bytes], idle: tuple[bytes, ...] = ()) -> Iterator[Entry]:
    """Yield the lines that matter of a log that comes in blocks, each of whole lines; not those whose message begins as one of `idle`."""
    before = 1
    for block in blocks:
        at = 0
        for found in _LINE.finditer(block):
            if idle and found["message"].startswith(idle):
                continue
            before += block.count(b"\n", at, found.start())
            at = found.start()
            process = found["pid"] or _process(found["head"])
            message = decode(found["message"]).rstrip("\r").lstrip(" ")
            pid = int(process) if process and len(process) < 10 else None
            yield Entry(before, found["stamp"].decode(), decode(found["host"]), found["program"].decode(), pid, message)
        before += block.count(b"\n", at)


def _process(head: bytes) -> bytes | None:
    """Return the process ID of RFC 5424, which stands apart from the program's name."""
    found = _PROCESS.match(head)
    return found[1] if found else None
