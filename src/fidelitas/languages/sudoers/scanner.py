"""The lexical level of sudoers(5): characters to tokens.

A scanner with states, as sudo's own is: what a character means depends on whether a command, a Defaults entry, a quoted string or a file
name is being read.  Where several forms fit, the longest wins, and of equals the one that sudo tries first; each method below keeps
that order.  Knows nothing of the grammar.  Columns count bytes.
"""

import re
from enum import Enum

from fidelitas.languages.sudoers.tokens import Kind, Token, command_path, escaped_argument, unescaped
from fidelitas.patterns import PatternError, compile_regex

__all__ = ["Scanner"]


class _State(Enum):
    INITIAL = 0
    BINDING = 1  # after "Defaults", up to the first option
    OPTION_NAME = 2
    OPTION_VALUE = 3
    DIGEST = 4
    PATH = 5  # after CWD or CHROOT
    FILE_NAME = 6  # after an include directive

    __hash__ = object.__hash__  # asked for with every token, and Enum's own hash is a call of Python's


# In the definitions of sudo's scanner an escape may cover any character but a tab or a line break.
_WORD = re.compile(r'(?:[^#>!=:,() \t\r\n\\"]|\\[^\t\n])+')
_ID = re.compile(r"#-?[0-9]+")
_GROUP = re.compile(r'%:?(?:(?:[^#>!=:,() \t\r\n\\"]|\\[^\t\n])+|#-?[0-9]+)')
_NETGROUP = re.compile(r'\+(?:[^#>!=:,() \t\r\n\\"]|\\[^\t\n])+')
_PATH = re.compile(r"/(?:\\[,:= \t#]|[^,:=\\ \t\r\n#])+")
# A regular expression, up to the "$" that ends it.
_REGEX = re.compile(r"\^(?:\\[#$]|[^#\r\n$])*")
_TAG = re.compile(r"(NO)?(PASSWD|EXEC|INTERCEPT|SETENV|LOG_OUTPUT|LOG_INPUT|MAIL|FOLLOW)[ \t]*:")
_UPPER = re.compile(r"[A-Z][A-Z0-9_]*\Z")
_OCTET = r"(?:25[0-5]|2[0-4][0-9]|1?[0-9]{1,2})"
_IPV4 = rf"{_OCTET}(?:\.{_OCTET}){{3}}"
_HEX = r"[0-9A-Fa-f]{1,4}"
_IPV6 = rf"(?:(?:(?:{_HEX})?:){{2,6}}:{_IPV4}|(?:(?:{_HEX})?:){{2,7}}(?:{_HEX})?)"
_ADDRESS4 = re.compile(rf"{_IPV4}(?:/(?:{_IPV4}|3[0-2]|[12]?[0-9]))?")
_ADDRESS6 = re.compile(rf"{_IPV6}(?:/(?:{_IPV6}|1[01][0-9]|12[0-8]|[1-9][0-9]|[0-9]))?")
_DEFAULTS = re.compile(r'[ \t]*Defaults(?:([:@>!])[ \t]*(?=!*"?(?:#-?[0-9]+|(?:[^#>!=:,() \t\r\n\\"]|\\[^\t\n])+)))?')
_DEFAULTS_WHOLE = re.compile(r'[ \t]*Defaults(?:[:@>!][ \t]*!*"?(?:#-?[0-9]+|(?:[^#>!=:,() \t\r\n\\"]|\\[^\t\n])+))?')
_ALIAS_TYPE = re.compile(r"[ \t]*(Host|Cmnd|Cmd|User|Runas)_Alias")
_OLD_INCLUDE = re.compile(r"#include(dir)?(?=[ \t])")
_FILE_NAME = re.compile(r'[^"\s](?:\\[ \t]|\S)*')
_CONTINUATION = re.compile(r"\\[ \t]*\r?\n")
_BLANKS = re.compile(r"[ \t]+")
_COMMENT = re.compile(r"#(?:-[^\r\n0-9].*|[^\r\n0-9-].*)?\r?\n|#\Z")
_STRING = re.compile(r'(?:[^"\r\n\\]|\\")+')
_ARGUMENT = re.compile(r"[^#\\:, \t\r\n]+")
_OPTION_NAME = re.compile(r"[a-z_]+")
_OPTION_WORD = re.compile(r'(?:[^#!=, \t\r\n\\"]|\\[^\r\n])(?:[^#=, \t\r\n\\"]|\\[^\r\n])*')
_DIGEST = re.compile(r"[A-Za-z0-9+/=]+")
_HEXADECIMAL = re.compile(r"[0-9A-Fa-f]+\Z")
# What most of a policy is made of, taken whole; all that could be anything else ends the match, and is left to the methods below.
_COMMON = re.compile(
    r"[ \t]*(?:([,=()])|([a-z_][a-z0-9_.-]*|ALL)(?=[ \t\n,=()])|(/[A-Za-z0-9_./+-]+)(?=[ \t\n,])"
    r"|((?:NO)?(?:PASSWD|EXEC|INTERCEPT|SETENV|LOG_OUTPUT|LOG_INPUT|MAIL|FOLLOW)):)"
)
_COMMON_ARGUMENTS = re.compile(r"((?:[ \t]+[^#\\:,=^ \t\r\n][^#\\:,= \t\r\n]*)*)[ \t]*(?=[,\n])")
_KEYWORD_BEGINNINGS = frozenset(" \t#DHCUR")
_NEGATIONS = re.compile(r"!+")
_REGEX_PART = re.compile(r"[^#\\\r\n$]+")

# Words that are options inside a command specification; ROLE and TYPE where sudo is built with SELinux, as Debian and Red Hat do.
_OPTION_WORDS = frozenset({"TIMEOUT", "NOTBEFORE", "NOTAFTER", "CWD", "CHROOT", "ROLE", "TYPE"})
_DIGEST_LENGTHS = {"sha224": 28, "sha256": 32, "sha384": 48, "sha512": 64}
_SINGLE = {"(": Kind.OPEN, ")": Kind.CLOSE, ",": Kind.COMMA, "=": Kind.EQUALS, ":": Kind.COLON}


class Scanner:
    """The tokens of one policy file, one at a time, since the grammar decides when a file is left for an included one."""

    def __init__(self, text: str) -> None:
        # A NUL ends its line, and the last line need not have a line feed.
        self.lines = [line.partition("\0")[0] + "\n" for line in text.removesuffix("\n").split("\n")] if text else []
        self._row = 0
        self._at = 0
        self._line = self.lines[0] if self.lines else ""
        self._state = _State.INITIAL
        self._before = _State.INITIAL  # to which state a string or a path returns
        self._line_start = True
        self._continued = False
        self._digest = ""
        self._broken_at = 1  # the column of the last backslash that joined two lines
        self._start = (1, 1)
        # sudo counts the columns behind a line break within a string from the wrong place; its error messages are matched, not mended.
        self._drift: dict[int, int] = {}
        self._counted = (0, 0, 1)
        self._no_regular = (-1, 0)  # the row in which no regular expression begins, and up to which column
        # What visudo refuses and sudo takes: line, column, why.
        self.visudo_refusals: list[tuple[int, int, str]] = []
        self._plain = self._line.isascii()  # whether characters of the line are bytes, and no drift is on it

    def next(self) -> Token:
        """Return the next token; `Kind.END` for ever after the last."""
        while self._row < len(self.lines):
            self._start = (self._row + 1, self._at)
            token = self._scan()
            if token is not None:
                return token
        return self._end_of_file()

    def fresh_line(self) -> str:
        """Return the line that is read next, with its line feed, where none of it is read and its characters are bytes; else nothing."""
        fresh = self._at == 0 and self._line_start and not self._continued and self._state is _State.INITIAL
        return self._line if fresh and self._plain else ""

    @property
    def row(self) -> int:
        """The line that is being read, from 0."""
        return self._row

    def skip_lines(self, count: int) -> None:
        """Go on behind the present line, and some that follow it."""
        self._row += count - 1
        self._next_line()

    def _end_of_file(self) -> Token:
        """The end; where the last line ends in a backslash, it is at the backslash that sudo misses the rest."""
        line = len(self.lines) + 1
        return Token(Kind.END, "", line, 1, line, self._broken_at if self._continued else 1)

    # -- what all states share ---------------------------------------------------------------------------------------------------

    def _token(self, kind: Kind, value: str = "", arguments: str | None = None, end: tuple[int, int] | None = None) -> Token:
        line, at = self._start
        if self._plain and (end is None or end[0] == line):
            return Token(kind, value, line, at + 1, line, (at if end is None else end[1]) + 1, arguments)
        end_line, end_at = end or self._start
        return Token(
            kind, value, line, self._column(line, at), end_line, self._column(end_line, end_at) + self._drift.get(end_line, 0), arguments
        )

    def _column(self, line: int, at: int) -> int:
        """Return the column of a character.  It counts on from the last one asked for, or a long line would cost its square."""
        text = self.lines[line - 1]
        if text.isascii():
            return at + 1
        known_line, known_at, column = self._counted
        if known_line != line or known_at > at:
            known_at, column = 0, 1
        column += len(text[known_at:at].encode("utf-8", "surrogateescape"))
        self._counted = (line, at, column)
        return column

    def _advance(self, length: int) -> str:
        text = self._line[self._at : self._at + length]
        self._at += length
        self._line_start = False
        return text

    def _next_line(self) -> None:
        self._row += 1
        self._at = 0
        self._line = self.lines[self._row] if self._row < len(self.lines) else ""
        self._line_start = True
        self._plain = self._line.isascii() and self._row + 1 not in self._drift

    def _join_line(self) -> None:
        """Go on at the next line behind a backslash."""
        self._broken_at = self._column(self._row + 1, self._at) + self._drift.get(self._row + 1, 0)
        self._next_line()
        self._continued = True

    def _newline(self) -> Token:
        token = self._token(Kind.NEWLINE)
        self._next_line()
        self._state = _State.INITIAL
        self._continued = False
        return token

    def _scan(self) -> Token | None:
        """Return the token at the present place, or nothing when blanks or a continuation were passed over."""
        line, at = self._line, self._at
        if self._state is _State.INITIAL:
            if self._line_start and line[0] in _KEYWORD_BEGINNINGS:
                token = self._keyword()
                if token is not None:
                    return token
            found = _COMMON.match(line, at)
            if found is not None:
                return self._common(found)
        character = line[at]
        if character in " \t" and self._state is not _State.BINDING:
            at = self._at = _end(_BLANKS, line, at)
            self._line_start = False
            self._start = (self._row + 1, at)
            character = line[at]
        if character == "\n" or (character == "\r" and line.startswith("\n", at + 1)):
            return self._newline()
        if character == "\\" and _CONTINUATION.match(line, at):
            self._join_line()
            return None
        if character == "!" and self._state is not _State.FILE_NAME:
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
        run = self._advance(_end(_NEGATIONS, self._line, self._at) - self._at)
        return self._token(Kind.NOT) if len(run) % 2 else None

    def _keyword(self) -> Token | None:
        """keyword = "Defaults" [ binding ] | ("User" | "Runas" | "Host" | "Cmnd" | "Cmd") "_Alias" | "#include" | "#includedir"

        Each only at the beginning of a line, and never of a continued one.
        """
        line = self._line
        old = _OLD_INCLUDE.match(line)
        if old:
            self._state = _State.FILE_NAME
            return self._begun(Kind.INCLUDE_FOLDER if old[1] else Kind.INCLUDE, old.end(), "")
        alias = _ALIAS_TYPE.match(line)
        if alias and alias.end() >= _end(_WORD, line, 0):
            return self._begun(Kind.ALIAS_TYPE, alias.end(), alias[1])
        defaults = _DEFAULTS.match(line)
        if defaults and _end(_DEFAULTS_WHOLE, line, 0) >= _end(_WORD, line, 0):
            self._state = _State.BINDING
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
            address = max(_end(_ADDRESS4, line, at), _end(_ADDRESS6, line, at))
            if address > at and address >= _end(_WORD, line, at):
                return self._address(address)
        if character in "NPEISLMF":
            tag = _TAG.match(line, at)
            if tag:
                self._at = tag.end()
                return self._token(Kind.TAG, (tag[1] or "") + tag[2])
        if character in "/^":
            end = _end(_PATH, line, at) if character == "/" else self._regular_end(line, at)
            if end > at and end >= _end(_WORD, line, at):
                return self._path(end)
        if character == ":":
            self._at = at + 1
            return self._token(Kind.COLON)
        end = _end(_WORD, line, at)
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
        stop = _end(_REGEX, line, at)
        if line.startswith("$", stop):
            return stop + 1
        last = line.rfind("\\$", at, stop)
        if last < 0:
            self._no_regular = self._row, stop
        return at if last < 0 else last + 2

    def _hash(self) -> Token | None:
        """A number with "#" in front names an ID; any other "#" begins a comment, which ends the statement."""
        end = _end(_ID, self._line, self._at)
        if end > self._at and self._state is not _State.OPTION_NAME and self._state is not _State.OPTION_VALUE:
            return self._token(Kind.WORD, self._advance(end - self._at))
        if self._state is not _State.BINDING and _COMMENT.match(self._line, self._at):
            return self._newline()
        return self._token(Kind.UNKNOWN, self._advance(1))

    def _group(self) -> Token:
        sigil = self._line[self._at]
        end = _end(_GROUP if sigil == "%" else _NETGROUP, self._line, self._at)
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
        if self._state is _State.BINDING or text.endswith("/"):  # a folder takes no arguments, nor does a command of Defaults!
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
            return self._token(Kind.COMMAND, text) if self._state is _State.BINDING else self._arguments(text)
        if text in _DIGEST_LENGTHS:
            self._digest, self._state = text, _State.DIGEST
            return self._token(Kind.DIGEST_TYPE, text)
        if self._state is _State.INITIAL:
            if text in _OPTION_WORDS:
                if text in ("CWD", "CHROOT"):
                    self._state = _State.PATH
                return self._token(Kind.OPTION, text)
            if text in ("@include", "@includedir"):
                self._state = _State.FILE_NAME
                return self._begun(Kind.INCLUDE if text == "@include" else Kind.INCLUDE_FOLDER, 0, "")
        if _UPPER.match(text):
            return self._token(Kind.ALIAS, text)
        return self._token(Kind.WORD, unescaped(text))

    # -- strings, commands, values -----------------------------------------------------------------------------------------------

    def _string(self) -> Token:
        r"""string = '"' { character | '\"' | '\' line-break } '"'; any other backslash stands for itself."""
        named = self._state in (_State.INITIAL, _State.BINDING)
        self._advance(1)
        parts: list[str] = []
        while self._row < len(self.lines):
            line, at = self._line, self._at
            here = (self._row + 1, at)
            if line[at] == "\n" or line.startswith("\r\n", at):
                self._state = _State.INITIAL
                return self._token(Kind.ERROR, "unexpected line break in string", end=here)
            if line[at] == '"':
                self._advance(1)
                break
            if _CONTINUATION.match(line, at):
                self._drift[self._row + 2] = len(line) - at
                self._join_line()
                self._advance(_end(_BLANKS, self._line, 0))
            else:
                end = _end(_STRING, line, at)
                parts.append(unescaped(self._advance(end - at)) if end > at else self._advance(1))
        else:
            return self._end_of_file()
        value = "".join(parts)
        if self._state is _State.FILE_NAME:
            self._state = _State.INITIAL
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
        found = _COMMON_ARGUMENTS.match(self._line, self._at)
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
            end = _end(_ARGUMENT, line, at)
            if character in "#:,\r\n" or (character == "=" and end == at + 1):
                return self._token(Kind.COMMAND, path, "".join(parts) or None, here)
            if character in " \t":
                self._advance(_end(_BLANKS, line, at) - at)
                blank = True
                continue
            if character == "^" and not parts:
                return self._regular_arguments(path)
            if character == "\\":
                if _CONTINUATION.match(line, at):
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
                if _CONTINUATION.match(line, at):
                    self._join_line()
                    self._advance(_end(_BLANKS, self._line, 0))
                else:
                    parts.append(self._advance(2))
            else:
                parts.append(self._advance(_end(_REGEX_PART, line, at) - at))
        return self._end_of_file()

    def _digest_value(self) -> Token | None:
        """digest = hexadecimal | base64, of the length that the algorithm gives; any other run of such characters is lost."""
        end = _end(_DIGEST, self._line, self._at)
        if end == self._at or _end(_TAG, self._line, self._at) > end:
            return self._initial()
        text = self._advance(end - self._at)
        size = _DIGEST_LENGTHS[self._digest]
        self._state = _State.INITIAL
        wanted = 2 * size if _HEXADECIMAL.match(text) else 4 * ((size + 2) // 3) if text.endswith("=") else (4 * size + 2) // 3
        return self._token(Kind.DIGEST, text) if len(text) == wanted else None

    def _path_value(self) -> Token | None:
        end = max(_end(_PATH, self._line, self._at), _end(_WORD, self._line, self._at))
        if end == self._at:
            # sudo 1.9.13 reads no quotes here: what should be a path in them is a syntax error.
            return self._token(Kind.UNKNOWN, self._advance(1)) if self._line[self._at] == '"' else self._initial()
        self._state = _State.INITIAL
        text = self._advance(end - self._at)
        return self._word(text) if text == "sudoedit" else self._token(Kind.WORD, unescaped(text))

    def _file_name(self) -> Token:
        if self._line[self._at] == '"':
            return self._string()
        end = _end(_FILE_NAME, self._line, self._at)
        self._state = _State.INITIAL
        if end == self._at:
            return self._token(Kind.UNKNOWN, self._advance(1))
        return self._token(Kind.WORD, unescaped(self._advance(end - self._at)))

    # -- Defaults ----------------------------------------------------------------------------------------------------------------

    def _binding(self) -> Token | None:
        line, at = self._line, self._at
        end = _end(_BLANKS, line, at)
        if line.startswith(",", end):  # blanks may surround a comma of the binding; other blanks end it
            self._advance(end + 1 - at)
            self._advance(_end(_BLANKS, line, self._at) - self._at)
            return self._token(Kind.COMMA)
        if end > at:
            self._advance(end - at)
            self._state = _State.OPTION_NAME
            return None
        return self._initial()

    def _option_name(self) -> Token | None:
        end = _end(_OPTION_NAME, self._line, self._at)
        if end > self._at:
            self._state = _State.OPTION_VALUE
            return self._token(Kind.VARIABLE, self._advance(end - self._at))
        if self._line[self._at] == "#":
            return self._hash()
        return self._token(Kind.UNKNOWN, self._advance(1))

    def _option_value(self) -> Token | None:
        line, at = self._line, self._at
        character = line[at]
        if character == ",":
            self._state = _State.OPTION_NAME
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
        end = _end(_OPTION_WORD, line, at)
        if end == at:
            return self._token(Kind.UNKNOWN, self._advance(1))
        return self._token(Kind.WORD, unescaped(self._advance(end - at)))


def _end(pattern: re.Pattern[str], line: str, at: int) -> int:
    found = pattern.match(line, at)
    return found.end() if found else at


_BY_STATE = {
    _State.INITIAL: Scanner._initial,
    _State.BINDING: Scanner._binding,
    _State.OPTION_NAME: Scanner._option_name,
    _State.OPTION_VALUE: Scanner._option_value,
    _State.DIGEST: Scanner._digest_value,
    _State.PATH: Scanner._path_value,
    _State.FILE_NAME: Scanner._file_name,
}
