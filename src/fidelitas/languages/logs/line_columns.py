"""The lines of long logs of syslog, parted in columns: many at once, where they are of a frequent form; the others one by one.

What is yielded is the same as one by one (`entries`); of a block no more objects are made than its lines have parts.
"""

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from itertools import compress
from operator import not_
from typing import Any, NamedTuple

from fidelitas.languages.logs.entries import (
    BEGINNINGS,
    NAMES_HOST,
    ODD,
    Line,
    LineForms,
    count_lines,
    is_mostly_empty,
    numbered_lines,
    whole_lines,
)
from fidelitas.languages.logs.idle import Idle
from fidelitas.languages.logs.sparse import candidates
from fidelitas.languages.logs.stamps import ISO_LENGTHS, NO_TIME, TRADITIONAL_LENGTH, are_traditional, times_of
from fidelitas.languages.logs.unread import Unread
from fidelitas.numeric import columns

__all__ = ["Lines", "blocks_that_matter"]

# Bytes from which on a log is worth columns, and from which on it is long; of a shorter block lines are parted one by one.
_WORTH, _LONG, _SHORT_BLOCK = 1 << 19, 8 << 20, 1 << 16
_FEW = 5  # where at most one line in five matters, few do
_COLON, _BLANK = b": "
_PARTS = 4  # stamp, host, program and message
_is_process = re.compile(rb"\d+\]:").fullmatch
_PROCESSES = re.compile(rb"(?:\d+\]:\n)*")


class Lines(NamedTuple):
    """Lines of programs that matter, in columns of one length, by number; `names_hosts` says whether messages can name other hosts.

    `times` are microseconds since 1970 (UTC), an array of NumPy; ``None`` where not all stamps tell theirs by themselves.
    """

    numbers: Sequence[int] = ()
    stamps: Sequence[bytes] = ()
    hosts: Sequence[bytes] = ()
    programs: Sequence[bytes] = ()
    pids: Sequence[bytes] = ()
    messages: Sequence[bytes] = ()
    times: Any = None
    names_hosts: bool = True

    def chosen(self, flags: Sequence[bool]) -> "Lines":
        """Return some of them."""
        if all(flags):
            return self
        numbers, stamps, hosts, programs, pids, messages = (list(compress(column, flags)) for column in self.texts)
        times = None if self.times is None else self.times[columns().array(flags)]
        return Lines(numbers, stamps, hosts, programs, pids, messages, times, self.names_hosts)

    @property
    def texts(self) -> tuple[Sequence[Any], ...]:
        """The columns that are not arrays."""
        return self.numbers, self.stamps, self.hosts, self.programs, self.pids, self.messages

    @classmethod
    def of_rows(cls, rows: Iterable[Iterable[Any]]) -> "Lines":
        """Return lines by their parts, without times."""
        parts = list(zip(*rows, strict=True))
        return cls(parts[0], parts[1], parts[2], parts[3], parts[4], parts[5]) if parts else cls()


class _Numbered(NamedTuple):
    """Lines that are not parted yet, with their numbers."""

    numbers: Sequence[int] = ()
    texts: Sequence[bytes] = ()

    def chosen(self, flags: Sequence[bool]) -> "_Numbered":
        return _Numbered(list(compress(self.numbers, flags)), list(compress(self.texts, flags)))

    def and_those(self, others: "_Numbered") -> "_Numbered":
        return _Numbered([*self.numbers, *others.numbers], [*self.texts, *others.texts])


def blocks_that_matter(
    blocks: Iterable[bytes], idle: Idle, passed_over: Collection[bytes] = frozenset(), after: int = 0, unread: Unread | None = None
) -> Iterator[Lines]:
    """Yield the lines of programs that matter, block by block; these are of whole lines and come `after` a number of others.

    Lines that concern no privilege are left out and counted: `idle` reports them when the others of the block were taken.  Lines with a
    year whose host is one of those `passed_over`, which may become more meanwhile, are left out, unless messages in their block name
    hosts.  `unread` takes lines that are of no form that is known.
    """
    parting = _Parting(idle, after, unread)
    for block in blocks:
        names_hosts = any(name in block for name in NAMES_HOST)
        yield parting.parted(block, frozenset() if names_hosts else passed_over)._replace(names_hosts=names_hosts)
        idle.report()


class _Parting:
    """Parts blocks: in columns where they are long, and where few lines of a long log matter, those alone that can."""

    def __init__(self, idle: Idle, after: int, unread: Unread | None) -> None:
        self._idle, self._number = idle, after + 1
        self._read = 0
        self._few = False
        self._forms = LineForms(unread)

    def parted(self, block: bytes, others: Collection[bytes]) -> Lines:
        """Return the lines of the next block that matter and are not idle."""
        number, count = self._number, count_lines(block)
        self._number, self._read = number + count, self._read + len(block)
        numpy = columns() if self._read > _WORTH and len(block) > _SHORT_BLOCK else None
        passed, found = 0, list[Lines]()
        if numpy is not None and self._few:
            left: Iterable[tuple[int, bytes]] = ((number + place, line) for place, line in candidates(numpy, block, BEGINNINGS))
        elif numpy is not None and not is_mostly_empty(block):
            passed, rest = self._in_columns(numpy, _Numbered(range(number, number + count), whole_lines(block)), others, found)
            left = zip(rest.numbers, rest.texts, strict=True)
        else:
            left = numbered_lines(block, number)
        singly = (line for line in (self._forms.read(*one) for one in left) if line is not None)
        found.append(_of_lines(sorted(singly), others))  # what has two forms nearly may come behind what has none
        matter = passed + sum(len(lines.numbers) for lines in found)
        self._few = matter * _FEW <= count and self._read > _LONG
        return _together([self._busy(lines) for lines in found if lines.numbers])

    def _in_columns(self, numpy: Any, left: _Numbered, others: Collection[bytes], found: list[Lines]) -> tuple[int, _Numbered]:
        """Part lines of the two frequent forms, and return how many were skipped, and those that are left."""
        passed, lines, rest = _iso(numpy, self._forms, left, others)
        found.append(lines)
        if rest.numbers:
            lines, rest = _traditional(numpy, self._forms, rest)
            found.append(lines)
        return passed, rest

    def _busy(self, lines: Lines) -> Lines:
        """Return the lines that are not idle, and count the others."""
        busy = self._idle.are_busy(lines.programs, lines.messages)
        if lines.times is None:
            self._idle.count(compress(lines.stamps, map(not_, busy)))
        else:
            numpy = columns()
            self._idle.times(numpy, lines.times[~numpy.array(busy)])
        return lines.chosen(busy)


def _of_lines(lines: Sequence[Line], others: Collection[bytes]) -> Lines:
    return Lines.of_rows(line for line in lines if not (line.host in others and line.stamp[:1].isdigit()))


def _together(parts: Sequence[Lines]) -> Lines:
    """Return all lines in their order."""
    filled = [lines for lines in parts if lines.numbers]
    if len(filled) == 1:
        return filled[0]
    return Lines.of_rows(sorted(row for lines in filled for row in zip(*lines.texts, strict=True)))


def _iso(numpy: Any, forms: LineForms, left: _Numbered, others: Collection[bytes]) -> tuple[int, Lines, _Numbered]:
    """Return how many lines of ISO 8601 are skipped, those that are of a frequent form, and the lines that are left."""
    rows = [text.split(b" ", 3) for text in left.texts]
    fit = [len(row) == _PARTS and len(row[0]) in ISO_LENGTHS for row in rows]
    rows, left, rest = _fitting(rows, left, fit)
    passed = [row[1] in others for row in rows] if others else []
    if any(passed):
        rows, left, _ = _fitting(rows, left, list(map(not_, passed)))
    return sum(passed), *_parted(forms, rows, left, rest, lambda stamps: times_of(numpy, stamps))


def _traditional(numpy: Any, forms: LineForms, left: _Numbered) -> tuple[Lines, _Numbered]:
    """Return the same of lines with traditional stamps, which do not tell the year."""
    at = TRADITIONAL_LENGTH
    rows = [[text[:at], *text[at + 1 :].split(b" ", 2)] for text in left.texts]
    fit = [len(row) == _PARTS and text[at] == _BLANK for row, text in zip(rows, left.texts, strict=True)]
    rows, left, rest = _fitting(rows, left, fit)
    lines, rest = _parted(forms, rows, left, rest, lambda stamps: numpy.where(are_traditional(numpy, stamps), 0, NO_TIME))
    return lines._replace(times=None), rest


_Rows = list[list[bytes]]


def _fitting(rows: _Rows, left: _Numbered, fit: Sequence[bool]) -> tuple[_Rows, _Numbered, _Numbered]:
    """Return those of some lines, with their parts, that fit, and those that do not."""
    if all(fit):
        return rows, left, _Numbered()
    return list(compress(rows, fit)), left.chosen(fit), left.chosen(list(map(not_, fit)))


def _parted(
    forms: LineForms, rows: _Rows, left: _Numbered, rest: _Numbered, times_of: Callable[[Sequence[bytes]], Any]
) -> tuple[Lines, _Numbered]:
    """Return lines of which the rows are the parts, and beside a `rest` those that have to be read one by one."""
    if not rows:
        return Lines(), rest
    stamps, hosts, tags, messages = zip(*rows, strict=True)
    names = [tag[: tag.find(b"[") + 1] or tag for tag in tags]
    tails = [tag[len(name) :] for tag, name in zip(tags, names, strict=True)]
    program_of = {name: forms.program(name) for name in set(names)}
    times = times_of(stamps)
    lines = Lines(left.numbers, stamps, hosts, [program_of[name] or ODD for name in names], [tail[:-2] for tail in tails], messages, times)
    plain = _plain(program_of, lines, names, tails)
    if plain is not None:
        rest, lines = rest.and_those(left.chosen([not one for one in plain])), lines.chosen(plain)
        names = list(compress(names, plain))
    return (lines.chosen([program_of[name] is not None for name in names]) if None in program_of.values() else lines), rest


def _plain(program_of: Mapping[bytes, bytes | None], lines: Lines, names: Sequence[bytes], tails: Sequence[bytes]) -> list[bool] | None:
    """Return which lines are what their parts say, ``None`` where all are.

    Of those the stamp is a time, and host, program and process stand in their places; or they are of a program that does not matter.
    """
    known, no_hosts = lines.times != NO_TIME, {host for host in set(lines.hosts) if not host or host[-1] == _COLON}
    if known.all() and not no_hosts and ODD not in program_of.values() and _are_processes(names, tails):
        return None
    fit = [_is_process(tail) is not None if name.endswith(b"[") else True for name, tail in zip(names, tails, strict=True)]
    plain = [
        program is None or (program != ODD and is_known and is_fit)
        for program, is_known, is_fit in zip(map(program_of.get, names), known.tolist(), fit, strict=True)
    ]
    return [one and host not in no_hosts for one, host in zip(plain, lines.hosts, strict=True)]


def _are_processes(names: Sequence[bytes], tails: Sequence[bytes]) -> bool:
    """Return whether what stands behind each name that ends with a bracket is a process ID, as ``412]:``, and nothing behind the others."""
    numbered = [tail for tail in tails if tail]
    return len(numbered) == sum(name.endswith(b"[") for name in names) and _PROCESSES.fullmatch(b"\n".join((*numbered, b""))) is not None
