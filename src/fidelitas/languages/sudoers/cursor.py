"""Where in a policy file the scanner reads, and the tokens that begin and end there.

Knows lines, columns and what a backslash at the end of a line does to both; nothing of what the characters mean.  Columns count bytes,
from 1.
"""

from fidelitas.languages.sudoers.tokens import Kind, Token

__all__ = ["Cursor"]


class Cursor:
    """A place in the lines of a file."""

    def __init__(self, text: str) -> None:
        # A NUL ends its line, and the last line need not have a line feed.
        self.lines = [line.partition("\0")[0] + "\n" for line in text.removesuffix("\n").split("\n")] if text else []
        self._row = 0
        self._at = 0
        self._line = self.lines[0] if self.lines else ""
        self._line_start = True
        self._continued = False
        self._broken_at = 1  # the column of the last backslash that joined two lines
        self._start = (1, 1)
        # sudo counts the columns behind a line break within a string from the wrong place; its error messages are matched, not mended.
        self._drift: dict[int, int] = {}
        self._counted = (0, 0, 1)
        self._plain = self._line.isascii()  # whether characters of the line are bytes, and no drift is on it

    def _fresh_line(self) -> str:
        fresh = self._at == 0 and self._line_start and not self._continued
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
