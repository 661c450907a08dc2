"""The tokens of sudoers(5): their kinds, and what the escapes in them stand for."""

import re
from enum import Enum
from typing import NamedTuple

__all__ = ["Kind", "Token", "command_path", "escaped_argument", "unescaped"]


class Kind(Enum):
    """The kinds of token."""

    NEWLINE = "end of line"
    END = "end of file"
    WORD = "word"
    ALIAS = "upper-case word"
    ALL = "ALL"
    GROUP = "group"
    NETGROUP = "netgroup"
    ADDRESS = "address"
    COMMAND = "command"
    TAG = "tag"
    OPTION = "option"
    DIGEST_TYPE = "digest type"
    DIGEST = "digest"
    VARIABLE = "option name"
    DEFAULTS = "Defaults"
    ALIAS_TYPE = "alias type"
    INCLUDE = "include"
    INCLUDE_FOLDER = "includedir"
    COMMA = ","
    COLON = ":"
    EQUALS = "="
    PLUS = "+="
    MINUS = "-="
    NOT = "!"
    OPEN = "("
    CLOSE = ")"
    ERROR = "error"
    UNKNOWN = "unknown character"

    __hash__ = object.__hash__  # the grammar looks kinds up for every token, and Enum's own hash is a call of Python's


class Token(NamedTuple):  # a tuple, since half a million of them are made for a large policy
    """One token: `line` and `column` are where it begins, `end_line` and `end_column` where its last part does, which sudo reports."""

    kind: Kind
    value: str
    line: int
    column: int
    end_line: int
    end_column: int
    arguments: str | None = None


_ESCAPE = re.compile(r"\\x([0-9A-Fa-f]{2})|\\(.)", re.DOTALL)
_COMMAND_ESCAPE = re.compile(r"\\([,:= \t#])")


def unescaped(text: str) -> str:
    r"""Return a word with ``\xHH`` and ``\c`` undone."""
    if "\\" not in text:
        return text
    return _ESCAPE.sub(lambda found: chr(int(found[1], 16)) if found[1] else found[2], text)


def command_path(text: str) -> str:
    """Return a command path with its escapes undone; any path that ends in sudoedit means the keyword."""
    if text.startswith("^"):
        return text
    path = _COMMAND_ESCAPE.sub(r"\1", text) if "\\" in text else text
    return "sudoedit" if path.endswith("/sudoedit") else path


def escaped_argument(line: str, at: int) -> str:
    """Return what an escape in an argument stands for: pattern characters keep the backslash, the policy's own do not."""
    following = line[at + 1 : at + 2]
    if following and following in "*?[]!^":
        return "\\" + following
    return following if following and following in ":\\,= \t#" else ""
