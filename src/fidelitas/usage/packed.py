"""Things of which many are kept, packed until someone looks: in a tenth of the memory."""

from collections.abc import Callable, Iterable, Iterator
from typing import Any, Generic, TypeVar

import msgspec
import zstandard

__all__ = ["Packed"]

T = TypeVar("T")
# So many are packed at once: enough for what they have in common to count.
_TOGETHER = 32
_LARGEST = 1 << 28  # of what is kept elsewhere none is as large
_compress = zstandard.ZstdCompressor(level=1, write_checksum=True).compress
_decompress = zstandard.ZstdDecompressor().decompress


class Packed(Generic[T]):
    """A list of things of one type, to which others can be added at the end; each look at it makes them anew.

    What holds text that is not Unicode is kept unpacked.
    """

    __slots__ = ("_chunks", "_count", "_kind", "_latest")

    def __init__(self, kind: Any, things: Iterable[T] = ()) -> None:
        """`kind` is their type, as MessagePack is told it: a named tuple, a dataclass, a tuple of types."""
        self._kind = kind
        self._chunks: list[bytes | list[T]] = []
        self._latest: list[T] = []
        self._count = 0
        for thing in things:
            self.append(thing)

    def append(self, thing: T) -> None:
        """Add one at the end."""
        self._latest.append(thing)
        self._count += 1
        if len(self._latest) >= _TOGETHER:
            self._pack()

    def _pack(self) -> None:
        if self._latest:
            self._chunks.append(_packed(self._latest) or self._latest)
            self._latest = []

    def __len__(self) -> int:
        return self._count

    def __iter__(self) -> Iterator[T]:
        for chunk in self._chunks:
            yield from self._unpacked(chunk) if isinstance(chunk, bytes) else chunk
        yield from self._latest

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Packed) and len(self) == len(other) and list(self) == list(other)

    __hash__ = None  # type: ignore[assignment]  # it grows

    def _unpacked(self, chunk: bytes) -> list[T]:
        if not 0 <= zstandard.frame_content_size(chunk) <= _LARGEST:
            raise zstandard.ZstdError("not packed here")
        return msgspec.msgpack.decode(_decompress(chunk), type=list[self._kind])  # type: ignore[name-defined]

    @property
    def parts(self) -> tuple[Any, int, list[bytes | list[T]], list[T]]:
        """Of what type they are and how many, those that are packed, and those that are not yet."""
        return self._kind, self._count, self._chunks, self._latest

    def take_parts(self, count: int, chunks: list[bytes | list[T]], latest: list[T]) -> None:
        """Be what another of the same type is, of which these are the other parts."""
        self._count, self._chunks, self._latest = count, chunks, latest

    def replace_packed(self, change: Callable[[T], T]) -> None:
        """Replace each that is packed by what a function makes of it."""
        for place, chunk in enumerate(self._chunks):
            if isinstance(chunk, bytes):
                changed = list(map(change, self._unpacked(chunk)))
                self._chunks[place] = _packed(changed) or changed

    def chunks(self) -> tuple[int, list[bytes]] | None:
        """Return how many there are, and all of them packed; ``None`` where one cannot be."""
        self._pack()
        stated = [chunk for chunk in self._chunks if isinstance(chunk, bytes)]
        return (self._count, stated) if len(stated) == len(self._chunks) else None

    @classmethod
    def of_chunks(cls, kind: Any, count: int, chunks: Iterable[bytes]) -> "Packed[T]":
        """Return what `chunks` gave; ask `is_sound` of what was kept elsewhere."""
        found: Packed[T] = cls(kind)
        found._count, found._chunks = count, list(chunks)
        return found

    def is_sound(self) -> bool:
        """Return whether all of it is of the form, and as many as were said."""
        try:
            return sum(1 for _ in self) == self._count
        except (msgspec.MsgspecError, UnicodeDecodeError, zstandard.ZstdError):
            return False


def _packed(things: list[Any]) -> bytes | None:
    try:
        # A copy: what the library returns keeps the memory that the content might have taken.
        return bytes(memoryview(_compress(msgspec.msgpack.encode(things))))
    except UnicodeEncodeError:
        return None
