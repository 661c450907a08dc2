"""One log, read once: its form and its times are looked up in what is read, which is then handed on.

Knows blocks, not what is in them.
"""

from collections import deque
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from itertools import islice
from typing import Protocol

from msgspec import Struct

from fidelitas.errors import ReadError

__all__ = ["DerivedLog", "LogContent", "LogLike"]

# How many blocks are looked at to tell the form of a log: in its copy the lines that were left out are empty.
_PEEK = 32
_BEGINNING = 1 << 16  # bytes
# How much is kept of a log that is looked at before it is read.
_HELD = 32 << 20


class LogLike(Protocol):
    """A log to read, perhaps packed: `blocks` reads it anew each time, whole lines at a time; `by` is when it was last written to.

    Blocks of `records` are of any number of bytes.  `tail` returns how a log ends, without reading all of it, or nothing.
    `parts` returns what reads about so many parts of it, one after another the whole: nothing where it has to be read from its begin.
    `family` names the log that it is a rotated part of, `survey` counts when it was collected: the same log can be there twice.
    """

    @property
    def path(self) -> str: ...
    @property
    def subject(self) -> str: ...
    @property
    def family(self) -> str: ...
    @property
    def survey(self) -> int: ...
    @property
    def by(self) -> datetime: ...
    @property
    def blocks(self) -> Callable[[], Iterator[bytes]]: ...
    @property
    def records(self) -> bool: ...
    @property
    def tail(self) -> Callable[[], bytes]: ...
    @property
    def parts(self) -> Callable[[int], Sequence[Callable[[], Iterator[bytes]]]]: ...


class DerivedLog(Struct, frozen=True):
    """A log of which a part was left out, or as if another survey had collected it."""

    path: str
    subject: str
    family: str
    survey: int
    by: datetime
    blocks: Callable[[], Iterator[bytes]]
    records: bool
    tail: Callable[[], bytes]

    def parts(self, count: int) -> Sequence[Callable[[], Iterator[bytes]]]:
        """Return no parts: it is read from its begin."""
        del count
        return ()


class LogContent:
    """The content of one log, once: what was looked at before `blocks` is asked for comes with it.

    A log that is damaged raises its `ReadError` from `blocks`, after what comes before the damage.
    """

    def __init__(self, log: LogLike) -> None:
        self._log = log
        self._coming = log.blocks()
        self._held: deque[bytes] = deque()
        self._size = 0
        self._ended = False
        self._damage: ReadError | None = None

    def beginning(self) -> bytes:
        """Return how the log begins, by which its form is known, without the empty lines before."""
        return next((text[:_BEGINNING] for block in islice(self.first_blocks(), _PEEK) if (text := block.lstrip(b"\n"))), b"")

    @property
    def is_empty(self) -> bool:
        """Whether nothing is in it, as far as it can be read."""
        return not self._held and not self._more() and self._damage is None

    def first_blocks(self) -> Iterator[bytes]:
        """Yield blocks from the first on, which are handed on all the same; what is beyond those that are kept is read a second time."""
        number = 0
        while number < len(self._held) or (self._size < _HELD and self._more()):
            yield self._held[number]
            number += 1
        if not self._ended:
            yield from islice(_undamaged(self._log.blocks()), number, None)

    def last_blocks(self) -> list[bytes]:
        """Return the last two blocks, or as much of them as can be had; what is neither short nor has a `tail` is read a second time."""
        while self._size < _HELD and self._more():
            pass
        if self._ended:
            return list(self._held)[-2:]
        tail = self._log.tail()
        return [tail] if tail else list(deque(_undamaged(self._log.blocks()), maxlen=2))

    def blocks(self) -> Iterator[bytes]:
        """Yield all blocks, to the end of the log."""
        while self._held or self._more():
            yield self._held.popleft()
        if self._damage is not None:
            raise self._damage

    def _more(self) -> bool:
        """Read one block more, and return whether there was one."""
        if self._ended:
            return False
        try:
            block = next(self._coming, None)
        except ReadError as error:
            self._damage, block = error, None
        if block is None:
            self._ended = True
            return False
        self._held.append(block)
        self._size += len(block)
        return True


def _undamaged(blocks: Iterator[bytes]) -> Iterator[bytes]:
    try:
        yield from blocks
    except ReadError:
        return
