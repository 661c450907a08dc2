"""Lines of syslog: traditional (RFC 3164), with times of ISO 8601, and RFC 5424.

Knows where a line says when, where and which program; not what programs say.  Here is what a line is, one by one; how the lines of a long
log are parted fast is another matter (`line_columns`).
"""

import re
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from fidelitas.languages.logs.envelopes import unwrapped
from fidelitas.languages.logs.unread import Unread
from fidelitas.recorded import OF_AUDIT, PROGRAMS

__all__ = [
    "BEGINNINGS", "NAMES_HOST", "NAME_FIRST", "ODD", "SUDO", "Line", "LineForms", "count_lines", "first_stamp",
    "is_mostly_empty", "is_stamped", "last_stamp", "lines_that_matter", "numbered_lines", "whole_lines",
]  # fmt: skip

# The names under which sudo logs.
SUDO = frozenset({"sudo", "sudoedit", "sudo.ws", "sudo-rs", "sudo-i", "sudo_logsrvd"})
# Their messages begin with the name of an account, which can be called as other messages begin.
NAME_FIRST = SUDO | {"doas", "pkexec"}
_STAMP = rb"([A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d|\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?)"
_NAMES = "|".join(sorted(map(re.escape, (*PROGRAMS, *OF_AUDIT)), key=len, reverse=True)).encode()
# The syslogd of busybox writes facility and level before the program: auth.notice.
_FACILITIES = ("auth", "authpriv", "cron", "daemon", "user", "local")
_LEVEL = rb"(?:(?:" + "|".join(_FACILITIES).encode() + rb")\d?\.[a-z]{3,7} )?"
_is_level = re.compile(_LEVEL).fullmatch
_LINE = re.compile(
    rb"(?:<\d{1,3}>(?:1 )?)?" + _STAMP + rb" ([^ \n]*[^ :\n]) " + _LEVEL + rb"(" + _NAMES + rb")"
    rb"(?: ?\[(\d+)\])?( (?:\d+|-) - (?:-|(?:\[[^\]\n]*\])+) ?|: ?| +)([^\n]*)"
)
# RFC 5424: a message begins behind the data, in which brackets stand within quotation marks, perhaps with a mark of UTF-8.
_FIELDS = re.compile(
    rb"(?:<\d{1,3}>)?1 " + _STAMP + rb" ([^ \n]*[^ :\n]) (" + _NAMES + rb") (?:(\d+)|[^ \n]+)( )[^ \n]+ "
    rb'(?:-|(?:\[(?:[^\]"\\\n]|\\.|"(?:[^"\\\n]|\\.)*")*\])+) ?(?:\xef\xbb\xbf)?([^\n]*)'
)
# The syslogd of busybox leaves the host out where it is told to write little (-S): no name of a host ends with a colon.
_WITHOUT_HOST = re.compile(_STAMP + rb"( )(" + _NAMES + rb")(?: ?\[(\d+)\])?(: ?)([^\n]*)")
_is_stamp = re.compile(_STAMP).fullmatch
_is_stamped = re.compile(rb"(?:<\d{1,3}>)?(?:1 )?" + _STAMP + rb" [^ :\n]").match
# What stands between two blanks behind the host, up to a bracket.
_NAME = re.compile(rb"(" + _NAMES + rb")([:\[])?(?(2)|\Z)")
ODD = b""
_NO_TAG = b""
# How a message of sudo names another host than that of its line.
NAMES_HOST = (b"HOST=", b"submithost")
_MOST_NAMES = 10_000
_MOST_WITHIN = 2  # a line in an object can be of an odd form itself
_T, _DASH, _BLANK, _COLON = b"T- :"
_TAB = b"\t"
_PROCESS = re.compile(rb" (\d+) - ")
# How what stands behind the host begins where a line matters.
BEGINNINGS = frozenset(name[:2].encode() for name in (*PROGRAMS, *OF_AUDIT, *_FACILITIES))
# Where lines have fewer bytes than this on average, most are empty.
_EMPTY = 16
_TEXT = re.compile(rb"[^\n]+")
_SHORT_HEAD = len(": ")
_NINE = 57  # the last digit of ASCII


class Line(NamedTuple):
    """One line of a program that matters, as it is written."""

    number: int
    stamp: bytes
    host: bytes
    program: bytes
    pid: bytes
    message: bytes


def is_stamped(line: bytes) -> bool:
    """Return whether a line begins as those of syslog do."""
    return _is_stamped(line) is not None


def first_stamp(blocks: Iterable[bytes]) -> str:
    """Return the first stamp of the lines that matter, empty where there is none."""
    return next((line.stamp.decode() for line in lines_that_matter(blocks)), "")


def last_stamp(blocks: Sequence[bytes]) -> str:
    """Return the last stamp of the lines that matter, empty where no line does."""
    forms = LineForms()
    read = (forms.read(0, text) for block in reversed(blocks) for text in reversed(whole_lines(block)))
    return next((line.stamp.decode() for line in read if line is not None), "")


def lines_that_matter(blocks: Iterable[bytes]) -> Iterator[Line]:
    """Yield the lines of programs that matter, one by one; blocks are of whole lines."""
    forms, number = LineForms(), 1
    for block in blocks:
        for at, text in numbered_lines(block, number):
            line = forms.read(at, text)
            if line is not None:
                yield line
        number += count_lines(block)


def count_lines(block: bytes) -> int:
    """Return how many lines a block has; the last need not have an end."""
    return block.count(b"\n") + (not block.endswith(b"\n") and block != b"")


def numbered_lines(block: bytes, number: int) -> Iterable[tuple[int, bytes]]:
    """Return the lines of a block with their numbers, from that of the first on; where most are empty, none that is."""
    return _with_text(block, number) if is_mostly_empty(block) else enumerate(whole_lines(block), number)


def is_mostly_empty(block: bytes) -> bool:
    """Return whether most lines of a block are empty: they stand for lines that were left out."""
    return block.count(b"\n") * _EMPTY > len(block)


def whole_lines(block: bytes) -> list[bytes]:
    """Return the lines of a block, without their ends; the last need not have one."""
    lines = block.split(b"\n")
    if not lines[-1]:
        lines.pop()
    return lines


def _with_text(block: bytes, number: int) -> Iterator[tuple[int, bytes]]:
    at = 0
    for found in _TEXT.finditer(block):
        number, at = number + block.count(b"\n", at, found.start()), found.start()
        yield number, found[0]


class LineForms:
    """Reads lines of all forms one by one, and remembers of which program what stands behind a host is."""

    def __init__(self, unread: Unread | None = None) -> None:
        """`unread` takes the lines that are of no form that is known."""
        self._unread = unread or Unread()
        self._within = 0  # how many forms there are round the line that is read
        self._programs: dict[bytes, bytes | None] = {_NO_TAG: ODD}  # by what stands behind the host, up to a bracket

    def read(self, number: int, line: bytes) -> Line | None:
        """Return a line where it is of a program that matters."""
        stamp, host, tag, message = _parts_of(line)
        bracket = tag.find(b"[") + 1
        program = self.program(tag[:bracket] if bracket else tag)
        if program is None:
            return None
        pid = tag[bracket:-2] if bracket else b""
        if program and host and (not bracket or (pid.isdigit() and tag[-2:] == b"]:")) and _is_stamp(stamp):
            return Line(number, stamp, host, program, pid, message)
        found = _FIELDS.match(line) or _LINE.match(line) or _WITHOUT_HOST.match(line)
        if found is None:
            return self._odd(number, line)
        stamp, host, program, process, head, message = found.groups()
        return Line(number, stamp, host.strip(), program, _process(head) if process is None else process, message)

    def _odd(self, number: int, line: bytes) -> Line | None:
        """Return a line of another form as what it is; what is of none is noted."""
        if not line or is_stamped(line):
            return None
        plain, self._within = (unwrapped(line), self._within + 1) if self._within < _MOST_WITHIN else (None, self._within)
        if plain is None:
            self._unread.see(number, line)
        found = None if plain is None else self.read(number, plain)
        self._within = 0
        return found

    def program(self, name: bytes) -> bytes | None:
        """Return of which program a name behind a host is: ``None`` of one that does not matter, `ODD` where the line must tell."""
        if name in self._programs:
            return self._programs[name]
        if len(self._programs) >= _MOST_NAMES:
            self._programs.clear()
            self._programs[_NO_TAG] = ODD
        found = _NAME.match(name)
        program = None if found is None else found[1] if found.end() == len(name) and found[2] else ODD
        self._programs[name] = program = ODD if _is_level(name + b" ") else program
        return program


def _parts_of(line: bytes) -> tuple[bytes, bytes, bytes, bytes]:
    """Return stamp, host, what stands behind it and the message of a line of a frequent form, by where its blanks are; else nothing."""
    try:
        if line[10] == _T and line[4] == _DASH:
            stamp, host, tag, message = line.split(b" ", 3)
        elif line[15] == _BLANK and line[3] == _BLANK and line[0] > _NINE:
            stamp, (host, tag, message) = line[:15], line[16:].split(b" ", 2)
        else:
            return b"", b"", _NO_TAG, b""
        return stamp, host, _NO_TAG if host[-1] == _COLON or _TAB in stamp else tag, message
    except (IndexError, ValueError):  # short, or of few words
        return b"", b"", _NO_TAG, b""


def _process(head: bytes) -> bytes:
    """Return the process ID where it is a field after the program's name (RFC 5424)."""
    apart = _PROCESS.match(head) if len(head) > _SHORT_HEAD else None
    return apart[1] if apart else b""
