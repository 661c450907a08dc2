"""Lines of syslog: traditional (RFC 3164), with times of ISO 8601, and RFC 5424.

Knows where a line says when, where and which program; not what programs say.  Works on blocks of bytes.  Most lines are of programs that
do not matter: where a line begins like the one before, with a stamp of the same length and the same host, its program is looked up for all
lines of a block at once; every other line is read by the expression.
"""

import re
from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

__all__ = ["PROGRAMS", "Idle", "Line", "first_stamp", "lines_that_matter"]

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
_LONGEST_HEAD, _LONGEST_TAG = 320, 24
_COLON = 58
_PREFIX = 16  # two words of a machine: so much of a message is looked at
_REACH = _LONGEST_HEAD + _LONGEST_TAG + 2 * _PREFIX  # beyond the end of a block
Bytes = NDArray[np.uint8]
Numbers = NDArray[np.int64]


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

    With `idle` those that are known to tell of no privilege are left out, and `idle.seen` is told of them, block by block: how many there
    were in an hour, and a stamp of it.
    """
    before = 1
    head = b""  # how the line before began, up to its program
    for block in blocks:
        starts, ends = _lines(block)
        padded = np.frombuffer(block + bytes(_REACH), dtype=np.uint8)
        chosen, alike = _candidates(padded, starts, ends, head)
        if idle is not None and head:
            chosen, alike = idle.without(padded, starts, chosen, alike, head)
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
        if idle is not None:
            idle.tell()
        before += len(starts)


class Idle:
    """Leaves out lines whose message begins in a way that is known to tell of nothing; `seen` is given a stamp and how many."""

    def __init__(self, beginnings: Iterable[bytes], seen: Callable[[bytes, int], None]) -> None:
        self._codes = [np.frombuffer(text[:_PREFIX], dtype=np.uint64) for text in beginnings if len(text) >= _PREFIX]
        self._seen = seen
        self._stamps: tuple[list[bytes], list[int]] = ([], [])

    def without(
        self, padded: Bytes, starts: Numbers, chosen: Numbers, alike: NDArray[np.bool_], head: bytes
    ) -> tuple[Numbers, NDArray[np.bool_]]:
        """Return the lines that are chosen without those that are idle; only lines that begin like `head` are known to be."""
        at = starts[chosen] + len(head)
        message = np.zeros(len(chosen), dtype=np.int64)
        for offset in range(_LONGEST_TAG, 1, -1):  # the message begins behind the first colon
            message[padded[at + offset] == _COLON] = offset + 2
        words = padded[(at + message)[:, None] + np.arange(_PREFIX)].view(np.uint64)
        idle = np.zeros(len(chosen), dtype=np.bool_)
        for first, second in self._codes:
            idle |= (words[:, 0] == first) & (words[:, 1] == second)
        idle &= alike & (message > 0)
        hour = 13 if head[0] <= _NINE else 9
        rows = padded[starts[chosen[idle]][:, None] + np.arange(hour)]
        width = max(head[:-1].rfind(b" "), 0)
        _, first_of, count = np.unique(rows.view(f"S{hour}").ravel(), return_index=True, return_counts=True)
        lines = starts[chosen[idle]][first_of].tolist()
        self._stamps = ([padded[start : start + width].tobytes() for start in lines], count.tolist())
        return chosen[~idle], alike[~idle]

    def tell(self) -> None:
        """Tell of what was left out of a block, once its other lines were given out."""
        for stamp, count in zip(*self._stamps, strict=True):
            self._seen(stamp, count)
        self._stamps = ([], [])


def _process(found: re.Match[bytes]) -> bytes:
    """Return the process ID; in RFC 5424 it stands apart from the program's name."""
    if found["pid"] is not None:
        return found["pid"]
    apart = _PROCESS.match(found["head"])
    return apart[1] if apart else b""


def _lines(block: bytes) -> tuple[Numbers, Numbers]:
    """Return where the lines of a block begin and end."""
    ends = np.flatnonzero(np.frombuffer(block, dtype=np.uint8) == _LINE_END)
    if block and not block.endswith(b"\n"):
        ends = np.append(ends, len(block))
    return np.concatenate((np.zeros(min(len(ends), 1), dtype=np.int64), ends[:-1] + 1)), ends


def _candidates(padded: Bytes, starts: Numbers, ends: Numbers, head: bytes) -> tuple[Numbers, NDArray[np.bool_]]:
    """Return which lines may matter, and which of them begin like `head`, with a stamp of the same form and the same host.

    Those that begin so and go on with another program are left out; nothing is known of the others.
    """
    long = ends - starts >= _SHORTEST
    stamp = head[:-1].rfind(b" ")
    if stamp < 15 or head.startswith(b"<") or len(head) > _LONGEST_HEAD:  # shorter than any stamp: nothing is known yet
        chosen = np.flatnonzero(long)
        return chosen, np.zeros(len(chosen), dtype=np.bool_)
    known = np.frombuffer(head, dtype=np.uint8)
    rows = padded[starts[:, None] + np.arange(len(head))]
    # The stamp has blanks where the one before has them, and nowhere else: the host is where it was, and is the same.
    same = (rows[:, :stamp] == _BLANK) == (known[:stamp] == _BLANK)
    alike = same.all(axis=1) & (rows[:, stamp:] == known[stamp:]).all(axis=1) & ((rows[:, 0] <= _NINE) == (known[0] <= _NINE))
    code = padded[starts + len(head)].astype(np.uint32)
    for offset in (1, 2):
        code |= padded[starts + len(head) + offset].astype(np.uint32) << np.uint32(8 * offset)
    chosen = np.flatnonzero(long & (~alike | np.isin(code, _CODES)))
    return chosen, alike[chosen]
