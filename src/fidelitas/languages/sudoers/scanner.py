"""The lexical level of sudoers(5): characters to tokens.

A scanner with states, as sudo's own is: what a character means depends on whether a command, a Defaults entry, a quoted string or a file
name is being read.  Where several forms fit, the longest wins, and of equals the one that sudo tries first; each method below keeps
that order.  Knows nothing of the grammar.  Columns count bytes.
"""

import re

from fidelitas.languages.sudoers.lexemes import (
    ADDRESS4,
    ADDRESS6,
    ALIAS_TYPE,
    BLANKS,
    COMMENT,
    COMMON,
    CONTINUATION,
    DEFAULTS,
    DEFAULTS_WHOLE,
    DIGEST,
    FILE_NAME,
    GROUP,
    HEXADECIMAL,
    ID,
    KEYWORD_BEGINNINGS,
    NEGATIONS,
    NETGROUP,
    OLD_INCLUDE,
    OPTION_NAME,
    OPTION_WORD,
    PATH,
    REGEX,
    TAG,
    UPPER,
    WORD,
)
from fidelitas.languages.sudoers.texts import State, Texts, end_of
from fidelitas.languages.sudoers.tokens import Kind, Token, command_path, unescaped
from fidelitas.patterns import PatternError, compile_regex

__all__ = ["Scanner"]


# Words that are options inside a command specification; ROLE and TYPE where sudo is built with SELinux, as Debian and Red Hat do.
_OPTION_WORDS = frozenset({"TIMEOUT", "NOTBEFORE", "NOTAFTER", "CWD", "CHROOT", "ROLE", "TYPE"})
_DIGEST_LENGTHS = {"sha224": 28, "sha256": 32, "sha384": 48, "sha512": 64}
_SINGLE = {"(": Kind.OPEN, ")": Kind.CLOSE, ",": Kind.COMMA, "=": Kind.EQUALS, ":": Kind.COLON}


class Scanner(Texts):
    """The tokens of one policy file, one at a time, since the grammar decides when a file is left for an included one."""

    def __init__(self, text: str) -> None:
        super().__init__(text)
        self._digest = ""
        self._no_regular = (-1, 0)  # the row in which no regular expression begins, and up to which column
        # What visudo refuses and sudo takes: line, column, why.
        self.visudo_refusals: list[tuple[int, int, str]] = []

    def fresh_line(self) -> str:
        """Return the line that is read next, with its line feed, where none of it is read and its characters are bytes; else nothing."""
        return self._fresh_line() if self._state is State.INITIAL else ""

    def next(self) -> Token:
        """Return the next token; `Kind.END` for ever after the last."""
        while self._row < len(self.lines):
            self._start = (self._row + 1, self._at)
            token = self._scan()
            if token is not None:
                return token
        return self._end_of_file()

    # -- what all states share ---------------------------------------------------------------------------------------------------

    def _scan(self) -> Token | None:
        """Return the token at the present place, or nothing when blanks or a continuation were skipped."""
        line, at = self._line, self._at
        if self._state is State.INITIAL:
            if self._line_start and line[0] in KEYWORD_BEGINNINGS:
                token = self._keyword()
                if token is not None:
                    return token
            found = COMMON.match(line, at)
            if found is not None:
                return self._common(found)
        character = line[at]
        if character in " \t" and self._state is not State.BINDING:
            at = self._at = end_of(BLANKS, line, at)
            self._line_start = False
            self._start = (self._row + 1, at)
            character = line[at]
        if character == "\n" or (character == "\r" and line.startswith("\n", at + 1)):
            return self._newline()
        if character == "\\" and CONTINUATION.match(line, at):
            self._join_line()
            return None
        if character == "!" and self._state is not State.FILE_NAME:
            return self._negation()
        return _BY_STATE[self._state](self)

    def _common(self, found: re.Match[str]) -> Token:
        """Return a token of those that most policies are made of."""
        kind = found.lastindex or 0
        self._start = (self._row + 1, found.start(kind))
        self._line_start = False
        if kind == 3:
            self._at = found.start(kind)
            return self._path(found.end())
        self._at = found.end()
        text = found[kind]
        if kind == 1:
            return self._token(_SINGLE[text])
        return self._word(text) if kind == 2 else self._token(Kind.TAG, text)

    def _negation(self) -> Token | None:
        run = self._advance(end_of(NEGATIONS, self._line, self._at) - self._at)
        return self._token(Kind.NOT) if len(run) % 2 else None

    def _keyword(self) -> Token | None:
        """keyword = "Defaults" [ binding ] | ("User" | "Runas" | "Host" | "Cmnd" | "Cmd") "_Alias" | "#include" | "#includedir"

        Each only at the beginning of a line, and never of a continued one.
        """
        line = self._line
        old = OLD_INCLUDE.match(line)
        if old:
            self._state = State.FILE_NAME
            return self._begun(Kind.INCLUDE_FOLDER if old[1] else Kind.INCLUDE, old.end(), "")
        alias = ALIAS_TYPE.match(line)
        if alias and alias.end() >= end_of(WORD, line, 0):
            return self._begun(Kind.ALIAS_TYPE, alias.end(), alias[1])
        defaults = DEFAULTS.match(line)
        if defaults and end_of(DEFAULTS_WHOLE, line, 0) >= end_of(WORD, line, 0):
            self._state = State.BINDING
            return self._begun(Kind.DEFAULTS, defaults.end(), defaults[1] or "")
        return None

    def _begun(self, kind: Kind, length: int, value: str) -> Token:
        self._advance(length)
        if self._continued:
            return self._token(Kind.ERROR, "invalid line continuation")
        return self._token(kind, value)

    # -- the ordinary state ------------------------------------------------------------------------------------------------------

    def _initial(self) -> Token | None:
        line, at = self._line, self._at
        character = line[at]
        if character in "(),=":
            self._at = at + 1
            return self._token(_SINGLE[character])
        if character == "#":
            return self._hash()
        if character == '"':
            return self._string()
        if character in "%+":
            return self._group()
        if character in "0123456789:" or (character in "abcdefABCDEF" and ":" in line[at : at + 5]):
            address = max(end_of(ADDRESS4, line, at), end_of(ADDRESS6, line, at))
            if address > at and address >= end_of(WORD, line, at):
                return self._address(address)
        if character in "NPEISLMF":
            tag = TAG.match(line, at)
            if tag:
                self._at = tag.end()
                return self._token(Kind.TAG, (tag[1] or "") + tag[2])
        if character in "/^":
            end = end_of(PATH, line, at) if character == "/" else self._regular_end(line, at)
            if end > at and end >= end_of(WORD, line, at):
                return self._path(end)
        if character == ":":
            self._at = at + 1
            return self._token(Kind.COLON)
        end = end_of(WORD, line, at)
        if end == at:
            return self._token(Kind.UNKNOWN, self._advance(1))
        return self._word(self._advance(end - at))

    def _regular_end(self, line: str, at: int) -> int:
        """Return where a regular expression ends, after its "$"; where none begins, `at`.

        One that has an end of its own nowhere takes an escaped "$" for it, as the longest match does.
        """
        row, upto = self._no_regular
        if row == self._row and at < upto:  # looked for once a line, however many "^" it has
            return at
        stop = end_of(REGEX, line, at)
        if line.startswith("$", stop):
            return stop + 1
        last = line.rfind("\\$", at, stop)
        if last < 0:
            self._no_regular = self._row, stop
        return at if last < 0 else last + 2

    def _hash(self) -> Token | None:
        """A number with "#" in front names an ID; any other "#" begins a comment, which ends the statement."""
        end = end_of(ID, self._line, self._at)
        if end > self._at and self._state is not State.OPTION_NAME and self._state is not State.OPTION_VALUE:
            return self._token(Kind.WORD, self._advance(end - self._at))
        if self._state is not State.BINDING and COMMENT.match(self._line, self._at):
            return self._newline()
        return self._token(Kind.UNKNOWN, self._advance(1))

    def _group(self) -> Token:
        sigil = self._line[self._at]
        end = end_of(GROUP if sigil == "%" else NETGROUP, self._line, self._at)
        if end == self._at:
            self._advance(2 if self._line.startswith("%:", self._at) else 1)
            return self._token(Kind.ERROR, "empty group" if sigil == "%" else "empty netgroup")
        kind = Kind.GROUP if sigil == "%" else Kind.NETGROUP
        return self._token(kind, unescaped(self._advance(end - self._at)))

    def _address(self, end: int) -> Token:
        value = self._advance(end - self._at)
        if any(part.count("::") + part.count(":::") > 1 for part in value.split("/")):
            return self._token(Kind.ERROR, "invalid IPv6 address")
        return self._token(Kind.ADDRESS, value)

    def _path(self, end: int) -> Token:
        text = self._advance(end - self._at)
        if text.startswith("^") or text.endswith("/sudoedit"):
            self._note_refusal(text)
        if self._state is State.BINDING or text.endswith("/"):  # a folder takes no arguments, nor does a command of Defaults!
            return self._token(Kind.COMMAND, command_path(text))
        return self._arguments(command_path(text))

    def _note_refusal(self, text: str) -> None:
        """Note what visudo alone checks in a command: that an expression compiles, and that sudoedit has no path."""
        line, at = self._start
        if text.startswith("^"):
            try:
                compile_regex(text)
            except PatternError as error:
                self.visudo_refusals.append((line, self._column(line, at), f"a regular expression that does not compile: {error}"))
        else:
            self.visudo_refusals.append((line, self._column(line, at), "sudoedit is written without a path"))

    def _word(self, text: str) -> Token:
        if text == "ALL":
            return self._token(Kind.ALL, text)
        if text == "sudoedit":
            return self._token(Kind.COMMAND, text) if self._state is State.BINDING else self._arguments(text)
        if text in _DIGEST_LENGTHS:
            self._digest, self._state = text, State.DIGEST
            return self._token(Kind.DIGEST_TYPE, text)
        if self._state is State.INITIAL:
            if text in _OPTION_WORDS:
                if text in ("CWD", "CHROOT"):
                    self._state = State.PATH
                return self._token(Kind.OPTION, text)
            if text in ("@include", "@includedir"):
                self._state = State.FILE_NAME
                return self._begun(Kind.INCLUDE if text == "@include" else Kind.INCLUDE_FOLDER, 0, "")
        if UPPER.match(text):
            return self._token(Kind.ALIAS, text)
        return self._token(Kind.WORD, unescaped(text))

    # -- values ------------------------------------------------------------------------------------------------------------------

    def _digest_value(self) -> Token | None:
        """digest = hexadecimal | base64, of the length that the algorithm gives; any other run of such characters is lost."""
        end = end_of(DIGEST, self._line, self._at)
        if end == self._at or end_of(TAG, self._line, self._at) > end:
            return self._initial()
        text = self._advance(end - self._at)
        size = _DIGEST_LENGTHS[self._digest]
        self._state = State.INITIAL
        wanted = 2 * size if HEXADECIMAL.match(text) else 4 * ((size + 2) // 3) if text.endswith("=") else (4 * size + 2) // 3
        return self._token(Kind.DIGEST, text) if len(text) == wanted else None

    def _path_value(self) -> Token | None:
        end = max(end_of(PATH, self._line, self._at), end_of(WORD, self._line, self._at))
        if end == self._at:
            # sudo 1.9.13 reads no quotes here: what should be a path in them is a syntax error.
            return self._token(Kind.UNKNOWN, self._advance(1)) if self._line[self._at] == '"' else self._initial()
        self._state = State.INITIAL
        text = self._advance(end - self._at)
        return self._word(text) if text == "sudoedit" else self._token(Kind.WORD, unescaped(text))

    def _file_name(self) -> Token:
        if self._line[self._at] == '"':
            return self._string()
        end = end_of(FILE_NAME, self._line, self._at)
        self._state = State.INITIAL
        if end == self._at:
            return self._token(Kind.UNKNOWN, self._advance(1))
        return self._token(Kind.WORD, unescaped(self._advance(end - self._at)))

    # -- Defaults ----------------------------------------------------------------------------------------------------------------

    def _binding(self) -> Token | None:
        line, at = self._line, self._at
        end = end_of(BLANKS, line, at)
        if line.startswith(",", end):  # blanks may surround a comma of the binding; other blanks end it
            self._advance(end + 1 - at)
            self._advance(end_of(BLANKS, line, self._at) - self._at)
            return self._token(Kind.COMMA)
        if end > at:
            self._advance(end - at)
            self._state = State.OPTION_NAME
            return None
        return self._initial()

    def _option_name(self) -> Token | None:
        end = end_of(OPTION_NAME, self._line, self._at)
        if end > self._at:
            self._state = State.OPTION_VALUE
            return self._token(Kind.VARIABLE, self._advance(end - self._at))
        if self._line[self._at] == "#":
            return self._hash()
        return self._token(Kind.UNKNOWN, self._advance(1))

    def _option_value(self) -> Token | None:
        line, at = self._line, self._at
        character = line[at]
        if character == ",":
            self._state = State.OPTION_NAME
        if character in ",=":
            self._advance(1)
            return self._token(_SINGLE[character])
        if line.startswith(("+=", "-="), at):
            self._advance(2)
            return self._token(Kind.PLUS if character == "+" else Kind.MINUS)
        if character == '"':
            return self._string()
        if character == "#":
            return self._hash()
        end = end_of(OPTION_WORD, line, at)
        if end == at:
            return self._token(Kind.UNKNOWN, self._advance(1))
        return self._token(Kind.WORD, unescaped(self._advance(end - at)))


_BY_STATE = {
    State.INITIAL: Scanner._initial,
    State.BINDING: Scanner._binding,
    State.OPTION_NAME: Scanner._option_name,
    State.OPTION_VALUE: Scanner._option_value,
    State.DIGEST: Scanner._digest_value,
    State.PATH: Scanner._path_value,
    State.FILE_NAME: Scanner._file_name,
}
