"""Lines of syslog: traditional (RFC 3164), with times of ISO 8601, and RFC 5424.

Knows where a line says when, where and which program; not what programs say.  Works on blocks of bytes.  Most lines are of programs that
do not matter: where a line begins like the one before, with a stamp of the same length and the same host, its program is looked up for all
lines of a block at once; every other line is read by the expression.
"""

import re
from collections.abc import Iterable, Iterator
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

__all__ = ["PROGRAMS", "Line", "first_stamp", "lines_that_matter"]

# The programs whose lines concern privilege.
PROGRAMS = (
    "sudo", "su", "sshd", "sshd-session", "login", "useradd", "usermod", "userdel", "groupadd", "groupmod", "groupdel", "gpasswd", "passwd",
    "chpasswd", "chage", "chsh", "chfn", "newusers", "pkexec", "doas", "CRON", "cron", "crond",
)  # fmt: skip
_STAMP = rb"(?P<stamp>[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d|\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?)"
_PROGRAMS = frozenset(name.encode() for name in PROGRAMS)
_NAMES = "|".join(sorted(PROGRAMS, key=len, reverse=True)).encode()
_LINE = re.compile(
    rb"(?:<\d{1,3}>(?:1 )?)?" + _STAMP + rb" (?P<host>[^ \n]+) (?P<program>" + _NAMES + rb")"
    rb"(?:\[(?P<pid>\d+)\])?(?P<head> (?:\d+|-) - (?:-|(?:\[[^\]\n]*\])+) ?|: ?| +)(?P<message>[^\n]*)"
)
_PROCESS = re.compile(rb" (\d+) - ")
# By how many bytes programs are told apart before the expression is asked; "su" is two and what follows its name.
_BEGINNINGS = {name.encode().ljust(3, b":")[:3] for name in PROGRAMS} | {b"su["} | {b"su "}
_CODES = np.array(sorted(int.from_bytes(text, "little") for text in _BEGINNINGS), dtype=np.uint32)
_LINE_END, _BLANK = 10, 32
_NINE = 57  # the last digit of ASCII
_SHORTEST = 20  # a stamp, a host and a program


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


def lines_that_matter(blocks: Iterable[bytes]) -> Iterator[Line]:
    """Yield the lines of programs that matter; blocks are of whole lines."""
    before = 1
    head = b""  # how the line before began, up to its program
    for block in blocks:
        starts, ends = _lines(block)
        chosen, alike = _candidates(block, starts, ends, head)
        size, width, name = len(head), max(head[:-1].rfind(b" "), 0), head[:-1].rpartition(b" ")[2]
        for number, start, end, same in zip(chosen.tolist(), starts[chosen].tolist(), ends[chosen].tolist(), alike.tolist(), strict=True):
            colon = block.find(b": ", start + size, end) if same else -1
            program, bracket, pid = block[start + size : colon].partition(b"[")
            if colon > 0 and program in _PROGRAMS and (not bracket or (pid[-1:] == b"]" and pid[:-1].isdigit())):
                yield Line(before + number, block[start : start + width], name, program, pid[:-1], block[colon + 2 : end])
                continue
            found = _LINE.match(block, start)
            if found is not None:
                head = block[start : found.start("program")]
                stamp, host, program = found.group("stamp", "host", "program")
                yield Line(before + number, stamp, host, program, _process(found), found["message"])
        before += len(starts)


def _process(found: re.Match[bytes]) -> bytes:
    """Return the process ID; in RFC 5424 it stands apart from the program's name."""
    if found["pid"] is not None:
        return found["pid"]
    apart = _PROCESS.match(found["head"])
    return apart[1] if apart else b""


def _lines(block: bytes) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return where the lines of a block begin and end."""
    ends = np.flatnonzero(np.frombuffer(block, dtype=np.uint8) == _LINE_END)
    if block and not block.endswith(b"\n"):
        ends = np.append(ends, len(block))
    return np.concatenate((np.zeros(min(len(ends), 1), dtype=np.int64), ends[:-1] + 1)), ends


def _candidates(
    block: bytes, starts: NDArray[np.int64], ends: NDArray[np.int64], head: bytes
) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """Return which lines may matter, and which of them begin like `head`, with a stamp of the same form and the same host.

    Those that begin so and go on with another program are left out; nothing is known of the others.
    """
    long = ends - starts >= _SHORTEST
    stamp = head[:-1].rfind(b" ")
    if stamp < 15 or head.startswith(b"<"):  # shorter than any stamp: nothing is known yet
        chosen = np.flatnonzero(long)
        return chosen, np.zeros(len(chosen), dtype=np.bool_)
    padded = np.frombuffer(block + bytes(len(head) + 3), dtype=np.uint8)
    alike = padded[starts] == head[0] if head[0] > _NINE else (padded[starts] <= _NINE)
    for offset in range(stamp, len(head)):
        alike &= padded[starts + offset] == head[offset]
    # The stamp has blanks where the one before has them, and nowhere else: the host is where it was.
    for offset in range(stamp):
        alike &= (padded[starts + offset] == _BLANK) == (head[offset] == _BLANK)
    code = padded[starts + len(head)].astype(np.uint32)
    for offset in (1, 2):
        code |= padded[starts + len(head) + offset].astype(np.uint32) << np.uint32(8 * offset)
    chosen = np.flatnonzero(long & (~alike | np.isin(code, _CODES)))
    return chosen, alike[chosen]
