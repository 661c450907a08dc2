"""The facts of large listings: every row is looked at once, the fact is made when it is asked for.

A server of 200,000 tables is asked about one of them.  So the rows stay as they came, and those of a name are found by a search for its
bytes; only where many names are asked for are all facts kept by name.
"""

import io
import json
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property
from typing import Generic, Protocol, TypeVar

import msgspec

from fidelitas.languages.rows import RowReader
from fidelitas.text import Place

__all__ = ["ListedFacts", "listed_facts", "typed_facts"]

# So many names are searched for; where more are asked, all facts are made once and kept.
_MOST_SEARCHES = 64


class _Named(Protocol):
    @property
    def name(self) -> str: ...


R = TypeVar("R", bound=msgspec.Struct)
T = TypeVar("T")
N = TypeVar("N", bound=_Named)
# A listing: its rows, where they stand, and the name of the database that they are of.
_Listing = tuple[bytes, Place, str]


def typed_facts(reader: RowReader, listing: str, kind: type[R], make: Callable[[R, str, Place], Sequence[T]]) -> tuple[T, ...]:
    """Return the facts of a listing of every database in turn; a row that is not of its `kind` is a gap."""
    found: list[T] = []
    for content, origin, database in _listings(reader, listing):
        for row, number in _read(reader, kind, content, origin):
            found += make(row, database, origin.at(number))
    return tuple(found)


def listed_facts(reader: RowReader, listing: str, kind: type[R], make: Callable[[R, str, Place], Sequence[N]]) -> "ListedFacts[N]":
    """Return the same, where the facts are made later; what is a gap is noted now."""
    listings = _listings(reader, listing)
    count = sum(1 for content, origin, _ in listings for _ in _read(reader, kind, content, origin))
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
    return [(found[name], reader.origin(name), name.partition(" ")[2]) for name in names]


def _read(reader: RowReader, kind: type[R], content: bytes, origin: Place) -> Iterator[tuple[R, int]]:
    decode = msgspec.json.Decoder(kind).decode
    for number, line in enumerate(io.BytesIO(content), 1):
        try:
            yield decode(line), number
        except (ValueError, RecursionError) as error:
            if line.strip():
                reader.faulty(error, origin.at(number))


class ListedFacts(Generic[N]):
    """The facts of one listing of every database; `len` counts rows."""

    def __init__(self, listings: Sequence[_Listing], count: int, facts: Callable[[bytes, str, Place], Sequence[N]]) -> None:
        self._listings, self._count, self._facts = listings, count, facts
        self._numbered = [b"\\u" in content for content, _, _ in listings]
        self._searches = 0

    def __len__(self) -> int:
        return self._count

    def __iter__(self) -> Iterator[N]:
        for content, origin, database in self._listings:
            for number, line in enumerate(io.BytesIO(content), 1):
                yield from self._facts(line, database, origin.at(number))

    def named(self, name: str) -> Iterable[N]:
        """Return the facts whose name this is."""
        self._searches += 1
        if self._searches > _MOST_SEARCHES:
            return self._by_name.get(name, ())
        # The name is looked for as the value of its column: that of a schema stands in the row of each of its tables.
        return [one for one in self._with(rb'"name"\s*:\s*' + _in_row(json.dumps(name, ensure_ascii=False))) if one.name == name]

    def containing(self, text: str) -> Iterable[N]:
        """Return the facts in whose row a text stands, and perhaps others."""
        return self._with(_in_row(json.dumps(text, ensure_ascii=False)[1:-1]))

    @cached_property
    def _by_name(self) -> dict[str, list[N]]:
        found: dict[str, list[N]] = {}
        for one in self:
            found.setdefault(one.name, []).append(one)
        return found

    def _with(self, wanted: bytes) -> list[N]:
        """Return the facts of the rows that an expression fits, and of those that write a character by its number, which may mean it."""
        pattern, numbered = re.compile(wanted), re.compile(rb"\\u")  # one expression for both takes ten times as long
        found: list[N] = []
        for (content, origin, database), has_numbers in zip(self._listings, self._numbered, strict=True):
            patterns = (pattern, numbered) if has_numbers else (pattern,)
            for number, line in sorted({one for pattern in patterns for one in _lines_with(content, pattern)}):
                found += self._facts(line, database, origin.at(number))
        return found


def _in_row(text: str) -> bytes:
    return re.escape(text.encode("utf-8", "surrogateescape"))


def _lines_with(content: bytes, pattern: re.Pattern[bytes]) -> Iterator[tuple[int, bytes]]:
    """Yield the lines that an expression fits, each with its number."""
    at = counted = 0
    number = 1
    while (found := pattern.search(content, at)) is not None:
        begins = content.rfind(b"\n", 0, found.start()) + 1
        ends = content.find(b"\n", found.end())
        at = len(content) if ends < 0 else ends
        number += content.count(b"\n", counted, begins)
        counted = begins
        yield number, content[begins:at]
