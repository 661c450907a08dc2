"""The lines of long logs of syslog, parted in columns: many at once, where they are of a frequent form; the others one by one.

What the columns say is the same as one by one (`entries`); of a line in columns no object is made.
"""

from collections.abc import Iterable, Iterator, Sequence
from typing import Any, NamedTuple

from fidelitas.languages.logs.entries import BEGINNINGS, NAMES_HOST, ODD, Line, LineForms, count_lines, is_mostly_empty, numbered_lines
from fidelitas.languages.logs.line_heads import Heads, heads_of
from fidelitas.languages.logs.stamps import NO_TIME, TRADITIONAL_LENGTH, are_traditional, times_of
from fidelitas.languages.logs.texts import LONGEST, Known, Texts
from fidelitas.languages.logs.unread import Unread
from fidelitas.numeric import columns

__all__ = ["Columns", "Lines", "blocks_that_matter"]

# Bytes from which on a log is worth columns; of a shorter block lines are parted one by one.
_WORTH, _SHORT_BLOCK = 1 << 19, 1 << 16
_COLON, _OPEN, _CLOSE, _ZERO = b":[]0"
_MOST_DIGITS = 9  # of a process ID
_NO_PROGRAM = b"\n"  # stands for those that do not matter
_MOST_NAMES, _LONGEST_NAME = 10_000, 256


class Columns(NamedTuple):
    """Lines of programs that matter, in arrays of one length: their numbers, where stamps begin, times, and where messages stand.

    Times are microseconds since 1970 (UTC), `NO_TIME` where the stamp is a traditional one.  Of hosts and programs the different ones are
    listed, and of each line which it is; a process ID that is not there is -1.
    """

    texts: Texts
    numbers: Any
    stamps: Any
    times: Any
    hosts: Sequence[bytes]
    host_of: Any
    programs: Sequence[bytes]
    program_of: Any
    processes: Any
    messages: Any
    ends: Any

    def chosen(self, flags: Any) -> "Columns":
        """Return some of them, by an array of truth values."""
        if flags.all():
            return self
        return self._replace(**{name: getattr(self, name)[flags] for name in _ARRAYS})

    def stamp(self, row: int) -> bytes:
        """Return a traditional stamp."""
        begin = int(self.stamps[row])
        return self.texts.block[begin : begin + TRADITIONAL_LENGTH]

    def message(self, row: int) -> bytes:
        """Return the message of a line."""
        return self.texts.block[int(self.messages[row]) : int(self.ends[row])]


_ARRAYS = ("numbers", "stamps", "times", "host_of", "program_of", "processes", "messages", "ends")


class Lines(NamedTuple):
    """The lines of a block that matter: those in columns, and others; `names_hosts` says whether messages can name other hosts."""

    columns: Columns | None
    others: Sequence[Line]
    names_hosts: bool = True


def blocks_that_matter(blocks: Iterable[bytes], after: int = 0, unread: Unread | None = None) -> Iterator[Lines]:
    """Yield the lines of programs that matter, block by block; these are of whole lines and come `after` a number of others.

    `unread` takes lines that are of no form that is known.
    """
    parting = _Parting(after, unread)
    for block in blocks:
        yield parting.parted(block)._replace(names_hosts=any(name in block for name in NAMES_HOST))


class _Parting:
    """Parts blocks: in columns where they are long."""

    def __init__(self, after: int, unread: Unread | None) -> None:
        self._number = after + 1
        self._read = 0
        self._forms = LineForms(unread)
        self._hosts: Known[bytes] = Known(_MOST_NAMES)
        self._programs: Known[bytes] = Known(_MOST_NAMES)

    def parted(self, block: bytes) -> Lines:
        """Return the lines of the next block that matter."""
        number = self._number
        self._number, self._read = number + count_lines(block), self._read + len(block)
        numpy = columns() if self._read > _WORTH and len(block) > _SHORT_BLOCK and not is_mostly_empty(block) else None
        found, left = (None, numbered_lines(block, number)) if numpy is None else self._in_columns(numpy, block, number)
        return Lines(found, [line for line in (self._forms.read(*one) for one in left) if line is not None])

    def _in_columns(self, numpy: Any, block: bytes, number: int) -> tuple[Columns, Iterator[tuple[int, bytes]]]:
        """Return lines of the two frequent forms, and the others that can matter with their numbers."""
        texts = Texts(numpy, block)
        heads = heads_of(numpy, texts.content[: len(block)], BEGINNINGS)
        tags = _tags_of(numpy, texts.content, heads)
        whole = heads.known & tags.fit & (heads.behind < heads.ends) & (heads.ends - heads.behind <= LONGEST)
        whole &= (heads.hosts < heads.words - 1) & (heads.words - heads.hosts <= _LONGEST_NAME) & (tags.lengths <= _LONGEST_NAME)
        times = _times_of(numpy, texts.content, heads, whole)
        whole &= (times != NO_TIME) | ~heads.is_iso
        rows = numpy.flatnonzero(whole)
        hosts, host_of = self._hosts.of(numpy, texts, heads.hosts[rows], heads.words[rows] - 1 - heads.hosts[rows], bytes)
        programs, program_of = self._programs.of(numpy, texts, heads.words[rows], tags.lengths[rows], self._program)
        is_odd, matters = (numpy.array([test(one) for one in programs], bool)[program_of] for test in (_is_odd, _matters))
        found = Columns(
            texts, number + heads.places[rows], heads.begins[rows], times[rows], hosts, host_of,
            programs, program_of, tags.processes[rows], heads.behind[rows] + 1, heads.ends[rows],
        )  # fmt: skip
        left = numpy.sort(numpy.append(numpy.flatnonzero(~whole), rows[is_odd]))
        begins, ends, places = (array[left].tolist() for array in (heads.begins, heads.ends, heads.places))
        others = ((number + place, block[begin:end]) for begin, end, place in zip(begins, ends, places, strict=True))
        return found.chosen(matters), others

    def _program(self, name: bytes) -> bytes:
        program = self._forms.program(name)
        return _NO_PROGRAM if program is None else program


def _is_odd(program: bytes) -> bool:
    return program == ODD


def _matters(program: bytes) -> bool:
    return program not in (ODD, _NO_PROGRAM)


class _Tags(NamedTuple):
    """What stands behind hosts: how long the names of programs are, with a bracket behind, process IDs, and whether they stand there so."""

    lengths: Any
    processes: Any
    fit: Any


def _tags_of(numpy: Any, content: Any, heads: Heads) -> _Tags:
    brackets = numpy.append(numpy.flatnonzero(content == _OPEN), len(content))
    begins = brackets[numpy.searchsorted(brackets, heads.words)] + 1
    has_process = begins < heads.behind
    digits = numpy.where(has_process, heads.behind - 2 - begins, 0)
    fit = ~has_process | ((digits > 0) & (digits <= _MOST_DIGITS))
    processes = numpy.where(has_process, 0, -1)
    rows = numpy.flatnonzero(has_process & fit)
    fit[rows] &= (content[heads.behind[rows] - 1] == _COLON) & (content[heads.behind[rows] - 2] == _CLOSE)
    for at in range(_MOST_DIGITS):
        rows = rows[digits[rows] > at]
        digit = content[begins[rows] + at] - _ZERO
        fit[rows] &= digit <= _MOST_DIGITS
        processes[rows] = processes[rows] * 10 + digit
    return _Tags(numpy.where(has_process, begins, heads.behind) - heads.words, processes, fit)


def _times_of(numpy: Any, content: Any, heads: Heads, whole: Any) -> Any:
    """Return the times of lines with stamps of ISO 8601; lines with other stamps than those two forms have are not `whole` any more."""
    times = numpy.full(len(whole), NO_TIME)
    rows = numpy.flatnonzero(whole & heads.is_iso)
    times[rows] = times_of(numpy, content, heads.begins[rows], heads.hosts[rows] - 1 - heads.begins[rows])
    rows = numpy.flatnonzero(whole & ~heads.is_iso)
    whole[rows] = are_traditional(numpy, content, heads.begins[rows])
    return times
