"""Patterns of MariaDB and MySQL for names of hosts and databases: ``%`` any text, ``_`` any character, a backslash before one itself."""

import re
from functools import lru_cache

__all__ = ["instance", "is_like", "weight"]

_ANY, _ONE = "any text", "any character"
_CHARACTER = re.compile(r"\\(.)|([%_])|.", re.DOTALL)


def is_like(pattern: str, text: str) -> bool:
    """Return whether a pattern takes the whole of a text, in large letters or small.

    Where what follows a ``%`` does not fit, the last of them takes more: no pattern costs more than the product of both lengths.
    """
    parts, letters = _parts(pattern), text.lower()
    at = here = 0
    last: tuple[int, int] | None = None  # what follows the last "%", and up to where that takes text
    while at < len(letters):
        if here < len(parts) and parts[here] == _ANY:
            here += 1
            last = here, at
        elif here < len(parts) and parts[here] in (_ONE, letters[at]):
            here, at = here + 1, at + 1
        elif last is not None:
            last = here, at = last[0], last[1] + 1
        else:
            return False
    return all(part == _ANY for part in parts[here:])


@lru_cache(maxsize=1024)
def _parts(pattern: str) -> tuple[str, ...]:
    """Return a pattern character by character, in small letters, wildcards as what no character is."""
    wildcards = {"%": _ANY, "_": _ONE}
    return tuple(wildcards.get(found[2]) or (found[1] or found[0]).lower() for found in _CHARACTER.finditer(pattern))


def weight(pattern: str) -> tuple[int, int, int, int, int]:
    """Return how specific a pattern is, the most specific the greatest.

    What has no wildcard comes first, networks with a mask among it; then patterns: by how much they take at least, how few ``%`` and how
    few ``_`` they have, and how early the first wildcard is; "" last.  Found by asking servers of version 10.11 which of seventy accounts a
    connection gets, one after the other; of equal ones a named user comes first, then the later in the alphabet.
    """
    plain = re.sub(r"%+", "%", re.sub(r"\\(.)", "x", pattern))
    first = re.search(r"[%_]", plain)
    if first is None:
        return 1 if pattern else -1, 0, 0, 0, 0
    many = plain.count("%")
    return 0, len(plain) - many, -many, -plain.count("_"), -first.start()


def instance(pattern: str) -> str:
    """Return a name that a pattern takes; of one that looks like an address, an address."""
    address = re.fullmatch(r"[0-9._%]+", pattern) is not None
    name = re.sub(r"\\(.)|([%_])", lambda found: found[1] or ("1" if found[2] == "_" else "7" if address else "x1"), pattern)
    while address and "%" in pattern and name.count(".") < 3:
        name += ".1" if not name.endswith(".") else "1"
    return name
