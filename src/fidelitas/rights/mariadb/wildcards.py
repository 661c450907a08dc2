"""Patterns of MariaDB and MySQL for names of hosts and databases: ``%`` any text, ``_`` any character, a backslash before one itself."""

import re

__all__ = ["like", "weight"]


def like(pattern: str) -> re.Pattern[str]:
    """Return a pattern as a regular expression."""
    escaped = re.sub(r"\\(.)|([%_])|([^\\%_]+)|\\", _part, pattern)
    return re.compile(escaped, re.IGNORECASE | re.DOTALL)


def _part(found: re.Match[str]) -> str:
    return {"%": ".*", "_": "."}[found[2]] if found[2] else re.escape(found[1] or found[3] or "\\")


def weight(pattern: str) -> tuple[int, int, int]:
    """Return how specific a pattern is: no wildcard, only ``_``, or ``%``; then how many letters are none; then where the first is.

    Found by asking a server of version 10.11 with pairs of accounts; of equal ones the later name in the alphabet comes first.
    """
    wild = [found.start() for found in re.finditer(r"(?<!\\)[%_]", pattern)]
    if pattern and not wild:
        return 2, 0, 0
    many = "%" in pattern or not pattern
    return 0 if many else 1, len(pattern) - len(wild), -(wild[0] if wild else 0)
