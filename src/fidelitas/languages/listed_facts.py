"""The facts of large listings: every row is looked at once, the fact is made when it is asked for.

A server of 200,000 tables is asked about one of them.  So the rows stay as they came, and those of a name are found by a search for its
bytes; only where many names are asked for are all facts kept by name.
"""

import io
import json
import os
import re
from bisect import bisect_right
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property
from itertools import islice
from typing import Generic, NamedTuple, Protocol, TypeVar

import msgspec

from fidelitas.languages.rows import RowReader
from fidelitas.text import Place

__all__ = ["ListedFacts", "listed_facts", "typed_facts"]

# So many names are searched for; where more are asked, all facts are made once and kept.
_MOST_SEARCHES = 64
# Rows are looked at by blocks of so many bytes.
_BLOCK = 1 << 18
# Of a listing as long as this, another process looks at one half: most of the time of a question goes there.
_WORTH_FORKING = 16 << 20


class _Named(Protocol):
    @property
    def name(self) -> str: ...


R = TypeVar("R", bound=msgspec.Struct)
T = TypeVar("T")
N = TypeVar("N", bound=_Named)


class _Listing(NamedTuple):
    """The rows of a listing, where they stand, of which database they are; where each block begins, and its first line."""

    content: bytes
    origin: Place
    database: str
    begins: list[int]
    first: list[int]

    def number(self, at: int) -> int:
        """Return the number of the line that begins at a byte."""
        block = bisect_right(self.begins, at) - 1
        return self.first[block] + self.content.count(b"\n", self.begins[block], at)


class _Block(NamedTuple):
    """A part of a listing: its bytes, the number of its first line, how many lines."""

    begins: int
    ends: int
    first: int
    lines: int


def typed_facts(reader: RowReader, listing: str, kind: type[R], make: Callable[[R, str, Place], Sequence[T]]) -> tuple[T, ...]:
    """Return the facts of a listing of every database in turn; a row that is not of its `kind` is a gap."""
    found: list[T] = []
    for one in _listings(reader, listing):
        for row, number in _read(reader, kind, one.content, one.origin):
            found += make(row, one.database, one.origin.at(number))
    return tuple(found)


def listed_facts(
    reader: RowReader, listing: str, kind: type[R], make: Callable[[R, str, Place], Sequence[N]], usual: type[msgspec.Struct] | None = None
) -> "ListedFacts[N]":
    """Return the same, where the facts are made later; what is a gap is noted now.

    Rows are mostly of the `usual` kind, which is all of `kind` that needs no look by Python.
    """
    listings = _listings(reader, listing)
    count = sum(_count(reader, kind, usual or kind, one) for one in listings)
    decode = msgspec.json.Decoder(kind).decode

    def facts(line: bytes, database: str, place: Place) -> Sequence[N]:
        try:
            return make(decode(line), database, place)
        except (ValueError, RecursionError):
            return ()

    return ListedFacts(listings, count, facts)


def _listings(reader: RowReader, listing: str) -> list[_Listing]:
    found = reader.evidence.listings
    names = [name for name in found if name == listing or name.startswith(f"{listing} ")]
    return [_Listing(found[name], reader.origin(name), name.partition(" ")[2], [], []) for name in names]


def _count(reader: RowReader, kind: type[R], usual: type[msgspec.Struct], listing: _Listing) -> int:
    """Return how many rows of a listing are of their kind; they are looked at in blocks, and one by one only where a block has a fault."""
    decode, content = msgspec.json.Decoder(usual).decode_lines, listing.content
    blocks = list(_blocks(listing))
    later = blocks[len(blocks) // 2 :] if len(content) >= _WORTH_FORKING else []
    later_are_usual = _answer_of_child(lambda: all(_is_usual(decode, content, one) for one in later)) if later else lambda: True
    count = 0
    for one in blocks[: len(blocks) - len(later)]:
        count += one.lines if _is_usual(decode, content, one) else _count_singly(reader, kind, listing, one)
    if later_are_usual():
        return count + sum(one.lines for one in later)
    return count + sum(_count_singly(reader, kind, listing, one) for one in later)


def _blocks(listing: _Listing) -> Iterator[_Block]:
    """Yield the blocks of a listing, and note where they are."""
    content, begins, first = listing.content, 0, 1
    while begins < len(content):
        ends = content.find(b"\n", begins + _BLOCK) + 1 or len(content)
        lines = content.count(b"\n", begins, ends)
        yield _Block(begins, ends, first, lines)
        listing.begins.append(begins)
        listing.first.append(first)
        first += lines
        begins = ends


def _answer_of_child(question: Callable[[], bool]) -> Callable[[], bool]:
    """Begin to answer a question in a process that is forked for it; return what waits for the answer.

    Where no process can be had, or its parent is not to learn how it ended (SIGCHLD is ignored), the question is answered here.
    """
    try:
        child = os.fork()
    except OSError:
        return question
    if child == 0:
        status = 1
        try:
            status = 0 if question() else 1
        finally:
            os._exit(status)

    def answer() -> bool:
        try:
            return os.waitpid(child, 0)[1] == 0
        except ChildProcessError:
            return question()

    return answer


def _is_usual(decode: Callable[[bytes], Sequence[object]], content: bytes, one: _Block) -> bool:
    """Return whether every line of a block is a row of the usual kind."""
    block = content[one.begins : one.ends]
    try:
        return _is_one_a_line(block, one.lines) and len(decode(block)) == one.lines
    except (ValueError, RecursionError):
        return False


def _count_singly(reader: RowReader, kind: type[msgspec.Struct], listing: _Listing, one: _Block) -> int:
    return sum(1 for _ in _read(reader, kind, listing.content[one.begins : one.ends], listing.origin, one.first))


def _is_one_a_line(block: bytes, lines: int) -> bool:
    """Return whether each line begins and ends as a row does: then no row goes on in another, and rows are as many as lines."""
    return block.startswith(b"{") and block.endswith(b"}\n") and block.count(b"}\n{") == lines - 1


def _read(reader: RowReader, kind: type[R], content: bytes, origin: Place, first: int = 1) -> Iterator[tuple[R, int]]:
    decode = msgspec.json.Decoder(kind).decode
    for number, line in enumerate(io.BytesIO(content), first):
        try:
            yield decode(line), number
        except (ValueError, RecursionError) as error:
            if line.strip():
                reader.faulty(error, origin.at(number))


class ListedFacts(Generic[N]):
    """The facts of one listing of every database; `len` counts rows."""

    def __init__(self, listings: Sequence[_Listing], count: int, facts: Callable[[bytes, str, Place], Sequence[N]]) -> None:
        self._listings, self._count, self._facts = listings, count, facts
        self._numbered = [b"\\" in one.content and b"\\u" in one.content for one in listings]  # one byte is found much faster
        self._searched: dict[str, list[N]] = {}

    def __len__(self) -> int:
        return self._count

    def __iter__(self) -> Iterator[N]:
        for one in self._listings:
            for number, line in enumerate(io.BytesIO(one.content), 1):
                yield from self._facts(line, one.database, one.origin.at(number))

    def named(self, name: str) -> Iterable[N]:
        """Return the facts whose name this is."""
        if name not in self._searched:
            if len(self._searched) >= _MOST_SEARCHES:
                return self._by_name.get(name, ())
            # The name is looked for as the value of its column: that of a schema stands in the row of each of its tables.
            rows = self._with(_in_row(json.dumps(name, ensure_ascii=False)), _names)
            self._searched[name] = [one for one in rows if one.name == name]
        return self._searched[name]

    def containing(self, text: str) -> Iterable[N]:
        """Return the facts in whose row a text stands, and perhaps others."""
        return self._with(_in_row(json.dumps(text, ensure_ascii=False)[1:-1]), _lines_with)

    @cached_property
    def _by_name(self) -> dict[str, list[N]]:
        found: dict[str, list[N]] = {}
        for one in self:
            found.setdefault(one.name, []).append(one)
        return found

    def _with(self, text: bytes, search: "_Search") -> list[N]:
        """Return the facts of the rows that a search finds, and of those that write a character by its number, which may mean the text."""
        found: list[N] = []
        for one, numbered in zip(self._listings, self._numbered, strict=True):
            lines = {*search(one, text), *(_lines_with(one, _NUMBERED) if numbered else ())}
            for number, line in sorted(lines):
                found += self._facts(line, one.database, one.origin.at(number))
        return found


_NUMBERED = b"\\u"
# A text that stands in more places is looked for together with the name of its column.
_MOST_PLACES = 1000


def _in_row(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


def _names(listing: _Listing, text: bytes) -> Iterator[tuple[int, bytes]]:
    """Yield the lines in which a text is the value of the column "name", and perhaps others, each with its number."""
    places = list(islice(_places(listing.content, text), _MOST_PLACES + 1))
    if len(places) <= _MOST_PLACES:
        return _lines_at(listing, places)
    return _lines_at(listing, (found.span() for found in re.finditer(rb'"name"\s*:\s*' + re.escape(text), listing.content)))


def _lines_with(listing: _Listing, text: bytes) -> Iterator[tuple[int, bytes]]:
    """Yield the lines in which a text stands, each with its number."""
    return _lines_at(listing, _places(listing.content, text))


def _places(content: bytes, text: bytes) -> Iterator[tuple[int, int]]:
    at = content.find(text)
    while at >= 0:
        yield at, at + len(text)
        at = content.find(text, at + len(text))


def _lines_at(listing: _Listing, places: Iterable[tuple[int, int]]) -> Iterator[tuple[int, bytes]]:
    content, behind = listing.content, 0
    for start, end in places:
        if start < behind:  # on the same line
            continue
        begins = content.rfind(b"\n", 0, start) + 1
        ends = content.find(b"\n", end)
        behind = len(content) if ends < 0 else ends
        yield listing.number(begins), content[begins:behind]


_Search = Callable[[_Listing, bytes], Iterable[tuple[int, bytes]]]
