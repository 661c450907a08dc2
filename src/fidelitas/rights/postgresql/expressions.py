"""Expressions of pg_hba.conf and pg_ident.conf: an administrator's own, yet no expression may keep us busy for ever.

The server's are those of Tcl (PostgreSQL manual, 9.7.3), which Python's agree with as far as names are concerned.
"""

import re
from functools import lru_cache

from fidelitas.patterns import PatternError, regex_matches

__all__ = ["found_in"]

# A backtracking engine takes steps by the power of the number of repetitions; of a repeated group without bound.
_MOST_REPETITIONS = 3
_REPEATED = re.compile(r"[*+?{]")
_REPEATED_GROUP = re.compile(r"\)[*+{]")


def found_in(pattern: str, text: str) -> tuple[str, ...] | None:
    """Return the parts of a text in the groups of an expression that is found in it; ``None`` where it is not.

    An expression that could take for ever is asked of the C library, which does not go back; its groups are not known then.
    """
    known = _compiled(pattern)
    if known is not None:
        found = known.search(text)
        return None if found is None else tuple(part or "" for part in found.groups())
    try:
        return () if regex_matches(pattern, text) else None
    except PatternError:
        return None


@lru_cache(maxsize=1024)
def _compiled(pattern: str) -> re.Pattern[str] | None:
    if _REPEATED_GROUP.search(pattern) or len(_REPEATED.findall(pattern)) > _MOST_REPETITIONS:
        return None
    try:
        return re.compile(pattern)
    except re.error:
        return None
