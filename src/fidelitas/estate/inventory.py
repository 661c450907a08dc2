"""Names of hosts: patterns that stand for several, and lists that something else keeps."""

import json
import re
from collections.abc import Iterator

__all__ = ["expanded", "listed_names"]

_RANGE = re.compile(r"\[(\d+)\.\.(\d+)\]")
_MOST = 100_000


def expanded(pattern: str) -> Iterator[str]:
    """Yield the names that a pattern stands for: ``web-[01..03]`` is web-01, web-02 and web-03; raises `ValueError` for too many."""
    found = _RANGE.search(pattern)
    if found is None:
        yield pattern
        return
    first, last = int(found[1][:9]), int(found[2][:9])
    if last - first >= _MOST or last < first:
        raise ValueError(f"{found[0]} is not a range of at most {_MOST} numbers")
    for number in range(first, last + 1):
        for rest in expanded(pattern[found.end() :]):
            yield f"{pattern[: found.start()]}{number:0{len(found[1])}}{rest}"


def listed_names(text: str) -> list[str]:
    """Return the names in a list: one a line, ``#`` begins a comment; or a JSON list of names; raises `ValueError` for other JSON."""
    if text.lstrip().startswith(("[", "{", '"')):
        stated = json.loads(text)
        if not isinstance(stated, list) or not all(isinstance(one, str) for one in stated):
            raise ValueError("it is JSON, but no list of names")
        return stated
    return [name for line in text.splitlines() if (name := line.partition("#")[0].strip())]
