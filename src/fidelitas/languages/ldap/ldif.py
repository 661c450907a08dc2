"""LDIF: the objects of a directory as text (RFC 2849).

Knows the syntax: folded lines, values in base64, comments; not what an object is.  A line that is none costs only itself.
"""

import base64
import binascii
import re
from collections.abc import Iterator

from msgspec import Struct, field

from fidelitas.facts import Gap, Place
from fidelitas.text import clipped, decode, escape_control, first_line, in_utf8

__all__ = ["Entry", "entries", "is_directory_dump", "is_ldif"]

_RANGE = re.compile(r"(?:^|;)range=\d+-(\d+|\*)")


# An attribute, none where a line says the version of LDIF, and how far its values go where they come in ranges.
_Named = tuple[str | None, str | None]
_MOST_NAMES = 10_000
# So far into a file its first line is looked for.
_BEGINNING = 1 << 20


def is_directory_dump(content: bytes) -> bool:
    """Return whether a file holds LDIF."""
    return is_ldif(in_utf8(content[:_BEGINNING]).decode("latin-1"))


def is_ldif(text: str) -> bool:
    """Return whether a text begins as LDIF does."""
    return first_line(text).lower().startswith(("version:", "dn:"))


class Entry(Struct):
    """One object: attribute names in lower case and without options, each value with its line.

    `told` says of an attribute that came in ranges how far the last of them goes ([MS-ADTS] 3.1.1.3.1.3.3): ``*`` is the end.
    """

    line: int
    values: dict[str, list[tuple[str, int]]] = field(default_factory=dict)
    told: dict[str, tuple[str, int]] = field(default_factory=dict)

    def texts(self, name: str) -> list[tuple[str, int]]:
        """Return the values of an attribute, each with its line."""
        return self.values.get(name.lower(), [])

    def first(self, name: str) -> str | None:
        """Return the first value of an attribute."""
        texts = self.texts(name)
        return texts[0][0] if texts else None


def entries(text: str, origin: Place, gaps: list[Gap], what: str) -> Iterator[Entry]:
    """Yield the objects of a text; `what` is what a line that is not understood is a gap of."""
    entry = Entry(1)
    known: dict[str, _Named] = {}
    for line, number in _unfolded(text):
        if line == "":
            if entry.values:
                yield entry
            entry = Entry(number + 1)
            continue
        name, colon, value = line.partition(":")
        attribute, upto = (None, None) if line[0] == "#" else known.get(name) or _remember(known, name)
        if attribute is None:
            continue
        stated = _value(value) if colon else None
        if stated is None:
            why = f'expected an attribute and a value, found "{clipped(escape_control(line), 40)}"'
            gaps.append(Gap(what=what, why=why, weakens="what this line states is not known", place=origin.at(number)))
            continue
        entry.values.setdefault(attribute, []).append((stated, number))
        if upto is not None:
            entry.told[attribute] = upto, number
    if entry.values:
        yield entry


def _remember(known: dict[str, _Named], name: str) -> _Named:
    """Return what a line names, which thousands of others name, too."""
    attribute, _, options = name.strip().lower().partition(";")
    found = _RANGE.search(options)
    stated = None if name.lower() == "version" else attribute, None if found is None else found[1]
    if len(known) < _MOST_NAMES:
        known[name] = stated
    return stated


def _unfolded(text: str) -> Iterator[tuple[str, int]]:
    """Yield logical lines, each with its number: one that begins with a blank goes on with the one before (RFC 2849, note 2)."""
    begin, more, begun = "", list[str](), 0
    lines = text.split("\n")
    if not lines[-1]:
        lines.pop()
    for number, line in enumerate(lines, 1):
        shown = line.rstrip("\r")
        if shown[:1] == " " and begin:
            more.append(shown[1:])
            continue
        if begun:
            yield "".join((begin, *more)) if more else begin, begun
            more.clear()
        begin, begun = shown, number
    if begun:
        yield "".join((begin, *more)) if more else begin, begun


def _value(text: str) -> str | None:
    """Return a value: as it stands, in base64 after a second colon; nothing for one that lies elsewhere (a URL)."""
    if text.startswith("<"):
        return None
    if not text.startswith(":"):
        return text.lstrip(" ")
    try:
        return decode(base64.b64decode(text[1:].strip(), validate=True))
    except (ValueError, binascii.Error):
        return None
