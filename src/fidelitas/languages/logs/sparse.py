"""The lines of a block of syslog that can matter, found by columns of numbers: in most logs few do, and to part all lines costs the most.

Needs NumPy, which an installation can be without; then all lines are parted.
"""

from collections.abc import Iterator
from typing import Any

__all__ = ["candidates"]

_LINE_END, _BLANK, _T, _DASH, _NINE, _COLON, _TAB = b"\n T-9:\t"
_OBJECT = b"\t{"
# Bytes of a line before its host: of ISO 8601 as many as stand before the first blank, of a traditional stamp always these.
_TRADITIONAL = 16
_SHORTEST = 20


def candidates(numpy: Any, block: bytes, beginnings: frozenset[bytes]) -> Iterator[tuple[int, bytes]]:
    """Yield lines with their places in the block, from 0: those whose third word begins as one of some, by two bytes, and all odd ones."""
    content = numpy.frombuffer(block, numpy.uint8)
    ends = numpy.flatnonzero(content == _LINE_END)
    if not block.endswith(b"\n"):
        ends = numpy.append(ends, len(block))
    begins = numpy.append(0, ends[:-1] + 1)
    blanks = numpy.append(numpy.flatnonzero(content == _BLANK), [len(block)] * 3)
    last = len(block) - 1

    def at(places: Any) -> Any:
        return content[numpy.minimum(places, last)]

    is_long = ends - begins >= _SHORTEST
    is_iso = is_long & (at(begins + 10) == _T) & (at(begins + 4) == _DASH)
    is_traditional = is_long & ~is_iso & (at(begins + 15) == _BLANK) & (at(begins + 3) == _BLANK) & (at(begins) > _NINE)
    first = numpy.searchsorted(blanks, numpy.where(is_traditional, begins + _TRADITIONAL, begins))
    words = numpy.where(is_iso, blanks[numpy.minimum(first + 1, len(blanks) - 1)], blanks[first]) + 1
    if _OBJECT in block:  # behind a stamp and a tag
        tabs = numpy.append(numpy.flatnonzero(content == _TAB), len(block))
        is_iso &= tabs[numpy.searchsorted(tabs, begins)] > blanks[first]
    known = is_iso | is_traditional
    known &= (words + 1 < ends) & (at(words - 2) != _COLON)  # of a line without a host the second word is the program
    table = numpy.zeros(1 << 16, bool)
    table[[one[0] << 8 | one[1] for one in beginnings]] = True
    chosen = ~known | table[at(words).astype(numpy.uint16) << 8 | at(words + 1)]
    for place in numpy.flatnonzero(chosen).tolist():
        yield place, block[begins[place] : ends[place]]
