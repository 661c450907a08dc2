"""The frame that line-based languages share: one statement a line, one broken line costs only itself.

Knows lines and columns; nothing of what is on them.
"""

from collections.abc import Callable, Iterator
from typing import Generic, TypeVar

from msgspec import Struct

from fidelitas.facts import Gap, Place
from fidelitas.text import byte_column, clipped, escape_control

__all__ = ["Broken", "Line", "Parsed", "fields", "number", "read_lines"]

T = TypeVar("T")

# No line of an account file is longer in earnest: the C library gives up at 1 MiB for groups of 50,000 members.
LONGEST_LINE = 4 * 2**20
# Past this many broken lines a file is not in the language at all (a binary, say); each more would only bury the rest of the report.
MOST_GAPS = 20


class Parsed(Struct, Generic[T], frozen=True, kw_only=True):
    """What a text states, and what of it could not be read."""

    entries: tuple[T, ...]
    gaps: tuple[Gap, ...] = ()


class Broken(Exception):  # noqa: N818  # a signal within the languages, never seen outside
    """A line that is not in the language; `offset` is the character that gave it away."""

    def __init__(self, reason: str, offset: int = 0) -> None:
        super().__init__(reason)
        self.offset = offset


class Line(Struct, frozen=True, kw_only=True):
    """One physical line, without its line break."""

    text: str
    number: int
    origin: Place

    def place(self, offset: int = 0) -> Place:
        """Return the place of a character of the line."""
        return self.origin.at(self.number, byte_column(self.text, offset))


def lines_of(text: str, origin: Place) -> Iterator[Line]:
    """Yield the lines.  Only a line feed ends one: what Unicode calls a line break is a character like any other to the C library."""
    texts = text.split("\n")
    if texts[-1] == "":
        texts.pop()
    for index, line in enumerate(texts, 1):
        yield Line(text=line, number=index, origin=origin)


def read_lines(text: str, origin: Place, entry: Callable[[Line], T | None], *, what: str, weakens: str) -> Parsed[T]:
    """Return what `entry` makes of each line, going on at the next line after an error.  `entry` returns ``None`` for a comment."""
    entries: list[T] = []
    gaps: list[Gap] = []
    for line in lines_of(text, origin):
        try:
            if len(line.text) > LONGEST_LINE:
                raise Broken(f"line is longer than {LONGEST_LINE} bytes")  # noqa: TRY301
            found = entry(line)
        except Broken as error:
            gaps.append(Gap(what=what, why=_shown(error, line), weakens=weakens, place=line.place(error.offset)))
            if len(gaps) == MOST_GAPS:
                gaps.append(Gap(what=what, why=f"{MOST_GAPS} broken lines: the rest is not read", weakens=weakens, place=line.place()))
                break
        else:
            if found is not None:
                entries.append(found)
    return Parsed(entries=tuple(entries), gaps=tuple(gaps))


def _shown(error: Broken, line: Line) -> str:
    text = clipped(escape_control(line.text[error.offset :]), 40)
    return f'{error}, found "{text}"' if text else f"{error}, found the end of the line"


def fields(line: Line, least: int, most: int) -> list[tuple[str, int]]:
    """Return the fields between the colons, each with its offset.

    As the C library reads them, fields after the first `least` may be missing and are then empty, and the last of `most` takes what is
    left, colons and all.
    """
    texts = line.text.split(":", most - 1)
    if len(texts) < least:
        raise Broken(f"expected {least if least == most else f'{least} to {most}'} fields separated by colons")
    offsets = [0]
    for text in texts:
        offsets.append(offsets[-1] + len(text) + 1)
    missing = [("", len(line.text))] * (most - len(texts))
    return [*zip(texts, offsets, strict=False), *missing]


def number(field: tuple[str, int], what: str, largest: int) -> int:
    """Return the number in a field, as strtoul(3) reads it: blanks and a plus sign may stand before it.

    At most ten digits are looked at: int() refuses very long ones with an error of its own.
    """
    text, offset = field[0].lstrip(" \t\v\f\r").removeprefix("+"), field[1]
    text = text.lstrip("0") or text[:1]
    if not (text.isascii() and text.isdigit() and len(text) <= 10 and int(text) <= largest):
        raise Broken(f"expected {what} from 0 to {largest}", offset)
    return int(text)
