"""Where in a TOML text a table begins and a key is set, for messages about values that are well-formed but wrong.

Follows the lines of the text; keys within inline tables are found where the table is.
"""

import re
from collections.abc import Mapping
from typing import NamedTuple

__all__ = ["Position", "positions_of"]

_HEADER = re.compile(r"\s*(\[\[?)([^\]]+)\]\]?\s*(?:#.*)?\Z")
_KEY = re.compile(r"\s*((?:[A-Za-z0-9_-]+|\"[^\"]*\"|'[^']*')(?:\s*\.\s*(?:[A-Za-z0-9_-]+|\"[^\"]*\"|'[^']*'))*)\s*=\s*")
_PART = re.compile(r"\"([^\"]*)\"|'([^']*)'|([A-Za-z0-9_-]+)")
# Strings and comments, in which brackets are none; one of several lines may begin.
_TEXT = re.compile(r"\"\"\".*?\"\"\"|'''.*?'''|(?P<open>\"\"\"|''').*|\"(?:[^\"\\]|\\.)*\"|'[^']*'|#.*")

_Path = tuple[str | int, ...]


class Position(NamedTuple):
    """A line and a column, both from 1."""

    line: int
    column: int


def positions_of(text: str) -> Mapping[_Path, Position]:
    """Return where each table and key stands, by its path: ``("host", 0, "port")`` is the port of the first ``[[host]]``."""
    found: dict[_Path, Position] = {}
    counts: dict[str, int] = {}
    table: _Path = ()
    depth, closing = 0, ""
    for number, line in enumerate(text.split("\n"), 1):
        if closing:  # within a string of several lines
            closing = "" if closing in line else closing
            continue
        header = _HEADER.match(line) if depth == 0 else None
        if header is not None:
            name = ".".join(_parts(header[2]))
            table = tuple(_parts(header[2]))
            if header[1] == "[[":
                table = (*table, counts.setdefault(name, 0))
                counts[name] += 1
            at = Position(number, line.index("[") + 1)
            for path in (table, *(table[:end] for end in range(1, len(table)))):  # what it is within begins there, too
                found.setdefault(path, at)
            continue
        key = _KEY.match(line) if depth == 0 else None
        if key is not None:
            found.setdefault((*table, *_parts(key[1])), Position(number, len(line) - len(line.lstrip()) + 1))
        rest = line[key.end() :] if key is not None else line
        closing = next((text["open"] for text in _TEXT.finditer(rest) if text["open"]), "")
        bare = _TEXT.sub("", rest)
        depth = max(depth + sum(map(bare.count, "[{")) - sum(map(bare.count, "]}")), 0)
    return found


def _parts(text: str) -> list[str]:
    return ["".join(found) for found in _PART.findall(text)]
