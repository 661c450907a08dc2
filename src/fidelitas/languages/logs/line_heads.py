"""The lines of a block of syslog that can matter, found by columns of numbers: in most logs few do, and to part all lines costs the most.

Needs NumPy, which an installation can be without; then all lines are parted.
"""

from typing import Any, NamedTuple

__all__ = ["Heads", "heads_of"]

_LINE_END, _BLANK, _T, _DASH, _NINE, _COLON, _TAB = b"\n T-9:\t"
# Bytes of a line before its host: of ISO 8601 as many as stand before the first blank, of a traditional stamp always these.
_TRADITIONAL = 16
_SHORTEST = 20


class Heads(NamedTuple):
    """Lines that can matter, in arrays of one length: their places in the block, from 0, where they begin and end, and what they are like.

    Of lines that are `known` to be of a frequent form: where the host begins, the word behind it, and the blank behind that; whether the
    stamp is of ISO 8601, or else a traditional one.
    """

    places: Any
    begins: Any
    ends: Any
    known: Any
    is_iso: Any
    hosts: Any
    words: Any
    behind: Any


def heads_of(numpy: Any, content: Any, beginnings: frozenset[bytes]) -> Heads:
    """Return lines whose third word begins as one of some, by two bytes, and all odd ones, of the bytes of a block."""
    ends = numpy.flatnonzero(content == _LINE_END)
    if not len(ends) or ends[-1] != len(content) - 1:
        ends = numpy.append(ends, len(content))
    begins = numpy.append(0, ends[:-1] + 1)
    blanks = numpy.append(numpy.flatnonzero(content == _BLANK), [len(content)] * 4)
    last = len(content) - 1

    def at(places: Any) -> Any:
        return content[numpy.minimum(places, last)]

    is_long = ends - begins >= _SHORTEST
    is_iso = is_long & (at(begins + 10) == _T) & (at(begins + 4) == _DASH)
    is_traditional = is_long & ~is_iso & (at(begins + 15) == _BLANK) & (at(begins + 3) == _BLANK) & (at(begins) > _NINE)
    first = numpy.searchsorted(blanks, numpy.where(is_traditional, begins + _TRADITIONAL, begins)) + is_iso
    words = blanks[first] + 1
    tabs = numpy.flatnonzero(content == _TAB)
    if len(tabs):  # an object behind a stamp and a tag
        tabs = numpy.append(tabs, len(content))
        is_iso &= tabs[numpy.searchsorted(tabs, begins)] > blanks[first - is_iso]
    known = is_iso | is_traditional
    known &= (words + 1 < ends) & (at(words - 2) != _COLON)  # of a line without a host the second word is the program
    table = numpy.zeros(1 << 16, bool)
    table[[one[0] << 8 | one[1] for one in beginnings]] = True
    places = numpy.flatnonzero(~known | table[at(words).astype(numpy.uint16) << 8 | at(words + 1)])
    begins, ends, known, is_iso, first = (array[places] for array in (begins, ends, known, is_iso, first))
    hosts = numpy.where(is_iso, blanks[first - is_iso] + 1, begins + _TRADITIONAL)
    return Heads(places, begins, ends, known, is_iso, hosts, blanks[first] + 1, blanks[first + 1])
