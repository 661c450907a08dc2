"""Words of a line as a shell parts them: sh(1p), Quoting and Token Recognition.

Knows quotes, backslashes, comments and operators; expands nothing.  In linear time, whatever the line is.
"""

import re
from collections.abc import Iterator

__all__ = ["shell_words"]

_PIECE = re.compile(
    r"""(?P<blank>\s+)|(?P<operator>[();<>|&]+)|(?P<comment>\#)|(?P<plain>[^\s"'\\();<>|&\#]+)|\\(?P<escaped>.)"""
    r"""|"(?P<double>(?:[^"\\]|\\.)*)"|'(?P<single>[^']*)'""",
    re.DOTALL,
)
# In double quotes a backslash stands for itself but before these.
_ESCAPE = re.compile(r"\\([\\\"])")


def shell_words(text: str, *, comments: bool = False, operators: bool = False) -> list[str]:
    """Return the words of a line; with `operators` runs of ``();<>|&`` are words of their own.

    Raises `ValueError` where a quote is not closed, or a backslash ends the line.
    """
    return list(_words(text, comments=comments, operators=operators))


def _words(text: str, *, comments: bool, operators: bool) -> Iterator[str]:
    parts: list[str] = []
    at = 0
    while at < len(text):
        found = _PIECE.match(text, at)
        if found is None:
            raise ValueError("a quote is not closed, or a backslash ends the line")
        at = found.end()
        kind = found.lastgroup
        ends = kind == "blank" or (kind == "operator" and operators) or (kind == "comment" and comments)
        if ends:
            if parts:
                yield "".join(parts)
                parts = []
            if kind == "operator":
                yield found[0]
            elif kind == "comment":
                end = text.find("\n", at)
                at = len(text) if end < 0 else end
            continue
        parts.append(_ESCAPE.sub(r"\1", found["double"]) if kind == "double" else found[kind or 0])
    if parts:
        yield "".join(parts)
