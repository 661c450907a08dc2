"""Places in texts, and texts made safe to show.

Knows nothing about any format.  Evidence is written by the people under audit: a name can hold an escape sequence that redraws the
auditor's screen, or a right-to-left mark that turns a line round.  `plain` is the one way from evidence to a screen.
"""

from typing import NamedTuple

__all__ = [
    "Place",
    "byte_column",
    "clipped",
    "decode",
    "escape_control",
    "first_line",
    "has_endless_key",
    "in_utf8",
    "quoted",
    "short_host_name",
    "shortened",
    "spreadsheet_safe",
]


class Place(NamedTuple):  # a tuple, since every fact has one
    """Where something is written: subject, path, and line and column where there are any.

    Lines count from 1.  Columns count bytes from 1, as sudo's own messages do.
    """

    subject: str
    path: str
    line: int | None = None
    column: int | None = None

    def at(self, line: int, column: int | None = None) -> "Place":
        """Return the place of a line of the same file."""
        return tuple.__new__(Place, (self[0], self[1], line, column))  # in half of the time

    def in_file(self) -> str:
        """Return ``path:line:column`` as far as they are known."""
        numbers = [str(number) for number in (self.line, self.column) if number is not None]
        return ":".join([self.path, *numbers])

    def __str__(self) -> str:
        return f"{self.subject}:{self.in_file()}"


def escape_control(text: str) -> str:
    """Return the text with everything that a terminal would obey rather than show written as an escape.

    Python calls unprintable what acts instead of showing: controls, formats (right-to-left marks, joiners), surrogates (bytes that are not
    UTF-8), private use, unassigned, line and paragraph separators; and blanks of any kind but the one that everyone types.
    """
    return text if text.isprintable() else "".join(map(_shown, text))


def _shown(character: str) -> str:
    code = ord(character)
    if 0xDC80 <= code <= 0xDCFF:  # a byte that is not UTF-8, kept by surrogateescape
        return f"\\x{code - 0xDC00:02x}"
    if not character.isprintable():
        return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"
    return character


# Spreadsheets take a cell that begins so for a formula.  A quote in front makes it text again.
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def spreadsheet_safe(text: str) -> str:
    """Return a cell of a table that no spreadsheet takes for a formula."""
    return f"'{text}" if text.startswith(_FORMULA) else text


def in_utf8(content: bytes) -> bytes:
    """Return a text in UTF-8 that came in it or in UTF-16, as some exports do; without a mark of the order of bytes."""
    if content.startswith(b"\xef\xbb\xbf"):
        return content[3:]
    form = "utf-16" if content[:2] in (b"\xff\xfe", b"\xfe\xff") else None
    if form is None and len(content) > 3 and content[:4].count(0) == 2:
        form = "utf-16-be" if content[0] == 0 else "utf-16-le"
    return content if form is None else content.decode(form, "replace").encode()


def clipped(text: str, width: int) -> str:
    """Return the text, cut to `width` characters with an ellipsis where it was longer."""
    return text if len(text) <= width else text[: max(width - 1, 0)] + "…"


def shortened(text: str, width: int = 300) -> str:
    """Return the text; of a much longer one the beginning, with how long it is."""
    return text if len(text) <= 2 * width else f"{text[:width]}… ({len(text):,} characters)"


def quoted(text: str) -> str:
    """Return a text as findings and links quote it: one line can state thousands of commands, each of which would hold the whole line."""
    return shortened(text, 1000)


def decode(content: bytes) -> str:
    """Return the text of a file; bytes that are not UTF-8 are kept, as lone surrogates, so that nothing is lost or refused."""
    return content.decode("utf-8", "surrogateescape")


def first_line(text: str, comment: str = "#") -> str:
    """Return the first line of a text that is neither blank nor a comment, without the blanks around it."""
    at = 0
    while at < len(text):
        end = text.find("\n", at)
        end = len(text) if end < 0 else end
        line = text[at:end].strip()
        if line and not line.startswith(comment):
            return line
        at = end + 1
    return ""


# A key of TOML of more parts is nobody's honest work, and takes the square of its length to read.
_KEY_PARTS = 100


def has_endless_key(text: str) -> bool:
    """Return whether a line of a TOML text may be a key of very many parts."""
    return any(line.count(".") > _KEY_PARTS for line in text.split("\n"))


def byte_column(line: str, offset: int) -> int:
    """Return the column, in bytes from 1, of the character at `offset` of a line."""
    if line.isascii():  # known without looking, so that a line of many megabytes costs nothing
        return offset + 1
    return 1 + len(line[:offset].encode("utf-8", "surrogateescape"))


def short_host_name(name: str) -> str:
    """Return the name of a host without its domain, in small letters: logs, policies and inventories write it in either way."""
    return name.partition(".")[0].lower()
