"""Lines of syslog: traditional (RFC 3164), with times of ISO 8601, and RFC 5424.

Knows where a line says when, where and which program; not what programs say.  Works on blocks of bytes of whole lines: one compiled
expression finds the lines of the programs that matter, and the lines between are only counted.
"""

import re
from collections.abc import Callable, Collection, Iterable, Iterator
from typing import Any, NamedTuple

from fidelitas.languages.logs.sparse import candidates
from fidelitas.numeric import columns
from fidelitas.recorded import PROGRAMS

__all__ = ["BEGINNINGS", "NAMES_HOST", "NAME_FIRST", "SUDO", "Idle", "Line", "first_stamp", "lines_that_matter"]

# The names under which sudo logs.
SUDO = frozenset({"sudo", "sudoedit", "sudo.ws", "sudo-rs", "sudo-i", "sudo_logsrvd"})
# Their messages begin with the name of an account, which can be called as other messages begin.
NAME_FIRST = SUDO | {"doas", "pkexec"}
_NAME_FIRST = frozenset(name.encode() for name in NAME_FIRST)
_PAM = (b"pam_", b" pam_")
_STAMP = rb"([A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d|\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?)"
_NAMES = "|".join(sorted(map(re.escape, PROGRAMS), key=len, reverse=True)).encode()
# The syslogd of busybox writes facility and level before the program: auth.notice.
_FACILITIES = ("auth", "authpriv", "cron", "daemon", "user", "local")
_LEVEL = rb"(?:(?:" + "|".join(_FACILITIES).encode() + rb")\d?\.[a-z]{3,7} )?"
_is_level = re.compile(_LEVEL).fullmatch
_LINE = re.compile(
    rb"(?:<\d{1,3}>(?:1 )?)?" + _STAMP + rb" ([^ \n]*[^ :\n]) " + _LEVEL + rb"(" + _NAMES + rb")"
    rb"(?:\[(\d+)\])?( (?:\d+|-) - (?:-|(?:\[[^\]\n]*\])+) ?|: ?| +)([^\n]*)"
)
# The syslogd of busybox leaves the host out where it is told to write little (-S): no name of a host ends with a colon.
_WITHOUT_HOST = re.compile(_STAMP + rb"( )(" + _NAMES + rb")(?:\[(\d+)\])?(: ?)([^\n]*)")
_is_stamp = re.compile(_STAMP).fullmatch
# What stands between two blanks behind the host, up to a bracket.
_NAME = re.compile(rb"(" + _NAMES + rb")([:\[])?(?(2)|\Z)")
_ODD = b""
_NO_TAG = b""
# How a message of sudo names another host than that of its line.
NAMES_HOST = (b"HOST=", b"submithost")
_MOST_NAMES = 10_000
_T, _DASH, _BLANK, _COLON = b"T- :"
_PROCESS = re.compile(rb" (\d+) - ")
# How what stands behind the host begins where a line matters.
BEGINNINGS = frozenset(name[:2].encode() for name in (*PROGRAMS, *_FACILITIES))
# Bytes from which on a log is long; of a shorter block all lines are parted; where one line in so many matters, few do.
_LONG, _SHORT_BLOCK, _FEW = 8 << 20, 1 << 16, 5
# Where a line has fewer bytes than so many, most are empty: they stand for lines that were left out.
_EMPTY = 16
_TEXT = re.compile(rb"[^\n]+")
_HEAD = 5  # bytes by which the beginnings of messages are told apart at first; none is shorter
_SHORT_HEAD = len(": ")
_NINE = 57  # the last digit of ASCII
_ALIKE, _TRADITIONAL = 14, 15  # bytes of a stamp of ISO 8601 up to the hour; bytes of a traditional one
_MINUTE_ISO, _MINUTE_TRADITIONAL = 16, 12  # bytes of a stamp up to the seconds
_UTC, _OFFSET = b"Z", slice(-6, -3)  # where a stamp says of which zone it is


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


def lines_that_matter(
    blocks: Iterable[bytes], idle: "Idle | None" = None, passed_over: Collection[bytes] = frozenset(), after: int = 0
) -> Iterator[Line]:
    """Yield the lines of programs that matter; blocks are of whole lines, which are counted on from those `after` which they come.

    With `idle`, lines that are known to concern no privilege are left out and counted, block by block.  Lines with a year whose host is one
    of those `passed_over`, which may become more meanwhile, are left out, unless messages in their block name hosts.
    """
    heads, make, parted = idle.heads if idle is not None else {}, tuple.__new__, _Parted(after)
    before = _ODD  # the stamp of the line before
    programs: dict[bytes, bytes | None] = {_NO_TAG: _ODD}  # by what stands behind the host, up to a bracket
    for block in blocks:
        mattered = 0
        others = frozenset() if any(name in block for name in NAMES_HOST) else passed_over
        for number, line in parted.lines(block):
            try:  # the frequent forms, by where their blanks are
                if line[10] == _T and line[4] == _DASH:
                    stamp, host, tag, message = line.split(b" ", 3)
                    if host in others:
                        mattered += 1
                        continue
                elif line[15] == _BLANK and line[3] == _BLANK and line[0] > _NINE:
                    stamp, (host, tag, message) = line[:15], line[16:].split(b" ", 2)
                else:
                    host = tag = _NO_TAG
                if host[-1] == _COLON:
                    tag = _NO_TAG
            except (IndexError, ValueError):  # short, or of few words
                tag = _NO_TAG
            bracket = tag.find(b"[") + 1
            name = tag[:bracket] if bracket else tag
            program = programs[name] if name in programs else _remember(programs, name)
            if program is None:
                continue
            pid = tag[bracket:-2] if bracket else b""
            if (
                not program
                or not host
                or (bracket and not (pid.isdigit() and tag[-2:] == b"]:"))
                or not (
                    (stamp[:_ALIKE] == before[:_ALIKE] and len(stamp) == len(before) > _TRADITIONAL and stamp.isascii()) or _is_stamp(stamp)
                )
            ):
                found = _LINE.match(line) or _WITHOUT_HOST.match(line)
                if found is None:
                    continue
                stamp, host, program, pid, head, message = found.groups()
                host = host.strip()
                pid = _process(head) if pid is None else pid
            before = stamp
            mattered += 1
            is_idle = message[:_HEAD] in heads and message.startswith(heads[message[:_HEAD]])
            if is_idle and idle is not None and (program not in _NAME_FIRST or message.startswith(_PAM)):
                idle.count(stamp)
            else:
                yield make(Line, (number, stamp, host, program, pid, message))
        parted.learn(mattered)
        if idle is not None:
            idle.report()


class _Parted:
    """Parts blocks into lines with their numbers: all of them, or where few of a long log matter, those that can."""

    def __init__(self, after: int) -> None:
        self._before, self._count, self._read = after, 0, 0
        self._columns: Any = None

    def lines(self, block: bytes) -> Iterator[tuple[int, bytes]]:
        """Return the lines of the next block, from the number on that the block before ended with."""
        self._before += self._count
        self._read += len(block)
        if self._columns is not None and len(block) > _SHORT_BLOCK:
            self._count = block.count(b"\n") + (not block.endswith(b"\n"))
            begin = self._before + 1
            return ((begin + place, line) for place, line in candidates(self._columns, block, BEGINNINGS))
        ends = block.count(b"\n")
        self._count = ends + (not block.endswith(b"\n"))
        if ends * _EMPTY > len(block):
            return _with_text(block, self._before + 1)
        lines = block.split(b"\n")
        if not lines[-1]:
            lines.pop()
        return enumerate(lines, self._before + 1)

    def learn(self, mattered: int) -> None:
        """Take note of how many lines of a block mattered."""
        if mattered * _FEW > self._count:
            self._columns = None
        elif self._read > _LONG and self._columns is None:
            self._columns = columns()


def _with_text(block: bytes, number: int) -> Iterator[tuple[int, bytes]]:
    """Yield the lines of a block that are not empty, with their numbers, of which the first line has one."""
    at = 0
    for found in _TEXT.finditer(block):
        number, at = number + block.count(b"\n", at, found.start()), found.start()
        yield number, found[0]


def _remember(programs: dict[bytes, bytes | None], name: bytes) -> bytes | None:
    """Work out of which program a name is; ``None`` of one that does not matter, nothing where the whole line must tell."""
    if len(programs) >= _MOST_NAMES:
        programs.clear()
        programs[_NO_TAG] = _ODD
    found = _NAME.match(name)
    program = None if found is None else found[1] if found.end() == len(name) and found[2] else _ODD
    programs[name] = program = _ODD if _is_level(name + b" ") else program
    return program


class Idle:
    """Counts lines whose message begins in a way that concerns no privilege.

    `seen` is called with stamps and how many lines there were: of each minute the first by time, and the last.
    """

    def __init__(self, beginnings: Iterable[bytes], seen: Callable[[bytes, int], None]) -> None:
        self.heads: dict[bytes, tuple[bytes, ...]] = {}  # beginnings by their first bytes
        for beginning in beginnings:
            self.heads[beginning[:_HEAD]] = (*self.heads.get(beginning[:_HEAD], ()), beginning)
        self._seen = seen
        self._minutes: dict[bytes, _Stamps] = {}

    def count(self, stamp: bytes) -> None:
        """Count one line."""
        zone = _UTC if stamp.endswith(_UTC) else stamp[_OFFSET]
        minute = stamp[: _MINUTE_ISO if stamp[0] <= _NINE else _MINUTE_TRADITIONAL] + zone
        known = self._minutes.get(minute)
        if known is None:
            self._minutes[minute] = _Stamps(stamp)
            return
        known.count += 1
        if stamp > known.last:
            known.last = stamp
        elif stamp < known.first:
            known.first = stamp

    def report(self) -> None:
        """Report what was counted in a block, once its other lines were yielded."""
        for one in self._minutes.values():
            self._seen(one.first, one.count)
            if one.last != one.first:
                self._seen(one.last, 0)
        self._minutes.clear()


class _Stamps:
    """The first and the last stamp of a minute, and of how many lines."""

    __slots__ = ("count", "first", "last")

    def __init__(self, stamp: bytes) -> None:
        self.first = self.last = stamp
        self.count = 1


def _process(head: bytes) -> bytes:
    """Return the process ID where it is a field after the program's name (RFC 5424)."""
    apart = _PROCESS.match(head) if len(head) > _SHORT_HEAD else None
    return apart[1] if apart else b""
