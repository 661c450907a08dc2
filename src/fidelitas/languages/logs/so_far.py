"""A log as it is read: how much of it was read so far, by which another copy of it is known to begin alike."""

from collections.abc import Callable, Iterator
from hashlib import blake2b
from itertools import chain
from typing import NamedTuple

__all__ = ["BlocksSoFar", "Extent"]


# Longer than the longest line that is read: what has no end by then is of someone who wants to fill the memory.
_MOST_BEGUN = 32 << 20


class Extent(NamedTuple):
    """How much of a log was read: bytes, with their digest, and lines."""

    size: int
    digest: bytes
    lines: int


class BlocksSoFar:
    """Hands on the blocks of a log, first all but a line or record that is only begun at its end: someone may be writing it."""

    def __init__(self, blocks: Iterator[bytes], whole: Callable[[bytes], int]) -> None:
        """`whole` returns how many bytes of a block are of whole lines or records."""
        self._blocks, self._whole = blocks, whole
        self._size = self._lines = 0
        self._digest = blake2b(digest_size=24)
        self._rest = b""

    @property
    def extent(self) -> Extent:
        """How much was read, without the rest."""
        return Extent(self._size, self._digest.digest(), self._lines)

    def whole(self) -> Iterator[bytes]:
        """Yield what is whole."""
        passed, self._rest = self._rest, b""
        for coming in chain((passed,) if passed else (), self._blocks):
            block = self._rest + coming if self._rest else coming
            size = self._whole(block) if len(block) < _MOST_BEGUN else len(block)
            self._rest = block[size:]
            if size:
                yield self._count(block if size == len(block) else block[:size])

    def rest(self) -> Iterator[bytes]:
        """Yield what is left behind what is whole."""
        if self._rest:
            yield self._rest

    def passes(self, before: Extent) -> bool:
        """Skip what was read of another copy, and return whether this one begins with the same."""
        while self._size < before.size:
            block = self._rest or next(self._blocks, b"")
            if not block:
                return False
            wanted = before.size - self._size
            self._rest = block[wanted:]
            self._count(block[:wanted])
        return self.extent == before

    def _count(self, block: bytes) -> bytes:
        self._size += len(block)
        self._lines += block.count(b"\n")
        self._digest.update(block)
        return block
