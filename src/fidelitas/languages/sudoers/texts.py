"""What sudo's scanner reads in one go over line breaks: quoted strings, and the arguments of commands.

Follows its states for them; `scanner` says when one begins.
"""

import re
from enum import Enum

from fidelitas.languages.sudoers.cursor import Cursor
from fidelitas.languages.sudoers.lexemes import (
    ARGUMENT,
    BLANKS,
    COMMON_ARGUMENTS,
    CONTINUATION,
    REGEX_PART,
    STRING,
)
from fidelitas.languages.sudoers.tokens import Kind, Token, escaped_argument, unescaped

__all__ = ["State", "Texts", "end_of"]


class State(Enum):
    """What is being read, on which the meaning of a character depends."""

    INITIAL = 0
    BINDING = 1  # after "Defaults", up to the first option
    OPTION_NAME = 2
    OPTION_VALUE = 3
    DIGEST = 4
    PATH = 5  # after CWD or CHROOT
    FILE_NAME = 6  # after an include directive

    __hash__ = object.__hash__  # asked for with every token, and Enum's own hash is a call of Python's


class Texts(Cursor):
    """A cursor that reads strings and arguments."""

    def __init__(self, text: str) -> None:
        super().__init__(text)
        self._state = State.INITIAL

    def _newline(self) -> Token:
        token = self._token(Kind.NEWLINE)
        self._next_line()
        self._state = State.INITIAL
        self._continued = False
        return token

    def _string(self) -> Token:
        r"""string = '"' { character | '\"' | '\' line-break } '"'; any other backslash stands for itself."""
        named = self._state in (State.INITIAL, State.BINDING)
        self._advance(1)
        parts: list[str] = []
        while self._row < len(self.lines):
            line, at = self._line, self._at
            here = (self._row + 1, at)
            if line[at] == "\n" or line.startswith("\r\n", at):
                self._state = State.INITIAL
                return self._token(Kind.ERROR, "unexpected line break in string", end=here)
            if line[at] == '"':
                self._advance(1)
                break
            if CONTINUATION.match(line, at):
                self._drift[self._row + 2] = len(line) - at
                self._join_line()
                self._advance(end_of(BLANKS, self._line, 0))
            else:
                end = end_of(STRING, line, at)
                parts.append(unescaped(self._advance(end - at)) if end > at else self._advance(1))
        else:
            return self._end_of_file()
        value = "".join(parts)
        if self._state is State.FILE_NAME:
            self._state = State.INITIAL
        return self._quoted(value, here, named=named)

    def _quoted(self, value: str, here: tuple[int, int], *, named: bool) -> Token:
        if not value:
            return self._token(Kind.ERROR, "empty string", end=here)
        if named and value in ("%", "%:"):
            return self._token(Kind.ERROR, "empty group", end=here)
        if named and value == "+":
            return self._token(Kind.ERROR, "empty netgroup", end=here)
        kind = Kind.WORD
        if named and value[0] in "%+":
            kind = Kind.GROUP if value[0] == "%" else Kind.NETGROUP
        return self._token(kind, value, end=here)

    def _arguments(self, path: str) -> Token:
        """The arguments of a command up to an unescaped ``,``, ``:``, ``#`` or lone ``=``, runs of blanks made one."""
        found = COMMON_ARGUMENTS.match(self._line, self._at)
        if found is not None:
            self._at = found.end()
            words = found[1].split()
            return self._token(Kind.COMMAND, path, " ".join(words) if words else None, (self._row + 1, self._at))
        parts: list[str] = []
        blank = False
        while self._row < len(self.lines):
            line, at = self._line, self._at
            character = line[at]
            here = (self._row + 1, at)
            if line.startswith("\r\n", at):  # the line ends before the command does: an error of the grammar
                self._start = here
                return self._newline()
            end = end_of(ARGUMENT, line, at)
            if character in "#:,\r\n" or (character == "=" and end == at + 1):
                return self._token(Kind.COMMAND, path, "".join(parts) or None, here)
            if character in " \t":
                self._advance(end_of(BLANKS, line, at) - at)
                blank = True
                continue
            if character == "^" and not parts:
                return self._regular_arguments(path)
            if character == "\\":
                if CONTINUATION.match(line, at):
                    self._join_line()
                    blank = True
                    continue
                text = escaped_argument(line, at)
                if not text:
                    self._start = here
                    return self._token(Kind.UNKNOWN, self._advance(1))
                self._advance(2)
            else:
                text = self._advance(end - at)
            parts.append(" " + text if blank and parts else text)
            blank = False
        return self._end_of_file()

    def _regular_arguments(self, path: str) -> Token:
        """Arguments as a regular expression: from ``^`` to the next ``$`` that is not escaped."""
        parts: list[str] = []
        while self._row < len(self.lines):
            line, at = self._line, self._at
            character = line[at]
            here = (self._row + 1, at)
            if character in "#\r\n":
                self._start = here
                return self._token(Kind.ERROR, "unterminated regular expression")
            if character == "$":
                self._advance(1)
                self._continued = False
                return self._token(Kind.COMMAND, path, "".join(parts) + "$", here)
            if character == "\\":
                if CONTINUATION.match(line, at):
                    self._join_line()
                    self._advance(end_of(BLANKS, self._line, 0))
                else:
                    parts.append(self._advance(2))
            else:
                parts.append(self._advance(end_of(REGEX_PART, line, at) - at))
        return self._end_of_file()


def end_of(pattern: re.Pattern[str], line: str, at: int) -> int:
    """Return where a form ends that begins at a place; the place itself where it does not begin there."""
    found = pattern.match(line, at)
    return found.end() if found else at
