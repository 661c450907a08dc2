"""Entries of the journal as JSON, however they are divided into lines.

journalctl(1) writes one a line, with ``-o json-pretty`` one over many, with ``-o json-sse`` and ``json-seq`` something before each; what
others make of these is a list.
"""

from collections.abc import Iterator

import msgspec

from fidelitas.languages.logs.unread import Unread

__all__ = ["Objects", "is_journal_json"]

_AROUND = b" \t\r\n\x1e"
_BEFORE = b"data:"
_ENDS = (b"}", b"},", b"}]")
_LONGEST = 16 << 20  # bytes of one entry
_list = msgspec.json.Decoder(list[msgspec.Raw]).decode


def is_journal_json(start: bytes) -> bool:
    """Return whether a file that begins so holds journal entries in JSON."""
    return start.strip(_AROUND).removeprefix(_BEFORE).lstrip(_AROUND)[:1] in (b"{", b"[") and b'"__REALTIME_TIMESTAMP"' in start


class Objects:
    """Makes entries of lines that are not one each; `unread` takes those that are no part of any.

    `held` is one list, of the lines so far of an entry that goes on.
    """

    def __init__(self, unread: Unread) -> None:
        self._unread = unread
        self.held: list[bytes] = []
        self._begun = self._size = 0

    @property
    def lasting(self) -> tuple[list[bytes], int, int]:
        """What is known so far, for another reader to go on with."""
        return list(self.held), self._begun, self._size

    @lasting.setter
    def lasting(self, known: tuple[list[bytes], int, int]) -> None:
        self.held[:], self._begun, self._size = known

    def of(self, line: bytes, number: int) -> Iterator[tuple[bytes, int]]:
        """Yield the entries that end in a line, with the numbers of the lines that they begin in."""
        text = line.strip(_AROUND).removeprefix(_BEFORE).strip(_AROUND)
        if self.held:
            yield from self._goes_on(text)
        elif text in (b"{", b"[{"):
            self.held[:], self._begun, self._size = [b"{"], number, 0
        elif text.startswith(b"{") and text.rstrip(b",").endswith(b"}"):
            yield text.rstrip(b","), number
        elif text.startswith(b"[{"):
            yield from self._listed(text, number)
        else:
            self._unread.see(number, line)

    def _goes_on(self, text: bytes) -> Iterator[tuple[bytes, int]]:
        self.held.append(text)
        self._size += len(text)
        if text in _ENDS:
            yield b" ".join((*self.held[:-1], b"}")), self._begun
        elif self._size > _LONGEST:
            self._unread.see(self._begun, b" ".join(self.held))
        else:
            return
        self.held.clear()

    def _listed(self, text: bytes, number: int) -> Iterator[tuple[bytes, int]]:
        try:
            yield from ((bytes(one), number) for one in _list(text))
        except msgspec.MsgspecError:
            self._unread.see(number, text)
