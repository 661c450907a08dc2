"""Logs in blocks of whole lines, unpacked: those of a bundle, and whatever else can be opened as a stream.

Knows compressions; not what is in a log.  A damaged log gives out what comes before the damage.
"""

import bz2
import gzip
import io
import lzma
import re
import zlib
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from functools import partial
from io import BufferedIOBase
from typing import IO, cast

import zstandard
from msgspec import Struct

from fidelitas.errors import ReadError

__all__ = ["LogCopy", "age_of", "bounded", "cuts_of", "family_of", "has_records", "in_blocks", "log_copy", "tail_of", "whole_lines"]

_BLOCK = 1 << 20
# A line that is longer is cut: no program that we read writes such lines, and anyone who makes one wants to stop the reader.
_LONGEST_LINE = 16 << 20
# What a packed log may unpack to: one whose lines are nearly all empty packs some thousand times; ten kilobytes can hold as much as a disk.
_RATIO, _ALWAYS, _LARGEST = 2000, 64 << 20, 16 << 30
_GZIP, _XZ, _BZIP2, _ZSTD = _PACKED = (b"\x1f\x8b", b"\xfd7zXZ", b"BZh", b"\x28\xb5\x2f\xfd")
_MAGIC = 6  # the longest of them
_TURN = re.compile(r"(?:[.-](?P<turn>\d+))?(?:\.(?:gz|xz|zst|bz2))?\Z")
# A number with so many digits, or more, is a date.
_DATE, _LARGEST_TURN = 7, 10**18
BROKEN = (OSError, EOFError, lzma.LZMAError, zlib.error, zstandard.ZstdError)


def _no_parts(count: int) -> Sequence[Callable[[], Iterator[bytes]]]:
    del count
    return ()


class LogCopy(Struct, frozen=True):
    """One log of a bundle: `blocks` reads it anew; `by` is when it was last written to, `family` the log that it was rotated from.

    Blocks are of whole lines, but of `records`, which have none.  `tail` returns how a log ends, without reading all of it: nothing where
    that cannot be had, as of a packed one.  `parts` returns what reads about so many parts of it, nothing where that cannot be had.
    """

    path: str
    subject: str
    family: str
    by: datetime
    blocks: Callable[[], Iterator[bytes]]
    survey: int = 0
    records: bool = False
    tail: Callable[[], bytes] = bytes
    parts: Callable[[int], Sequence[Callable[[], Iterator[bytes]]]] = _no_parts


def log_copy(path: str, subject: str, by: datetime, content: bytes, survey: int = 0) -> LogCopy:
    """Return the copy of a log that a bundle holds, packed or not."""
    blocks, tail = partial(_blocks, content, path, f"{subject}:{path}"), partial(_tail, content)
    return LogCopy(path, subject, family_of(path), by, blocks, survey, records=has_records(path), tail=tail)


def family_of(path: str) -> str:
    """Return the path of the log that one was rotated from."""
    return _TURN.sub("", path)


def age_of(path: str) -> int:
    """Return by what the parts of a log are ordered by their names, the oldest first, the one in use last.

    A date grows, the number of a turn shrinks towards the present.
    """
    found = _TURN.search(path)
    turn = found["turn"] if found is not None else None
    if not turn:
        return 1
    return -int(turn) if len(turn) < _DATE else int(turn[:18]) - _LARGEST_TURN


def _tail(content: bytes) -> bytes:
    return tail_of(io.BytesIO(content))


def has_records(path: str) -> bool:
    """Return whether a log by its name holds login records (utmp(5), lastlog(8)): nothing in them says so."""
    return path.rpartition("/")[2].partition(".")[0].partition("-")[0] in ("wtmp", "btmp", "lastlog")


def _blocks(content: bytes, path: str, name: str) -> Iterator[bytes]:
    try:
        yield from bounded(in_blocks(cast(IO[bytes], io.BytesIO(content)), path), len(content), name)
    except BROKEN as error:
        raise ReadError(f'could not read log "{name}" to its end: {error}', hint="What was read before counts.") from error


def bounded(blocks: Iterator[bytes], packed: int, name: str) -> Iterator[bytes]:
    """Yield the blocks of a log as long as they are not many times what it is packed; raises `ReadError` then."""
    limit, total = min(max(_ALWAYS, _RATIO * packed), max(_LARGEST, packed)), 0
    for block in blocks:
        total += len(block)
        if total > limit:
            raise ReadError(
                f'log "{name}" unpacks to more than {limit} bytes, {limit // max(packed, 1)} times its size: the rest is not read'
            )
        yield block


def in_blocks(stream: IO[bytes], path: str) -> Iterator[bytes]:
    """Return the content of a log, unpacked, in the blocks that its form has: whole lines, or any number of bytes of records."""
    content = unpacked(stream)
    return _pieces(content) if has_records(path) else whole_lines(content)


def tail_of(stream: IO[bytes]) -> bytes:
    """Return the last lines of a log, at most a megabyte of them: nothing of a packed one."""
    if stream.read(_MAGIC).startswith(_PACKED):
        return b""
    stream.seek(0, io.SEEK_END)
    stream.seek(max(stream.tell() - _BLOCK, 0))
    return stream.read(_BLOCK).partition(b"\n")[2]


def unpacked(stream: IO[bytes]) -> BufferedIOBase:
    """Return a stream that unpacks another, by what it begins with; the other must be one that can be rewound."""
    magic = stream.read(_MAGIC)
    stream.seek(0)
    if magic.startswith(_GZIP):
        return gzip.GzipFile(fileobj=stream)
    if magic.startswith(_XZ):
        return lzma.LZMAFile(stream)
    if magic.startswith(_BZIP2):
        return bz2.BZ2File(stream)
    if magic.startswith(_ZSTD):
        return cast(BufferedIOBase, zstandard.ZstdDecompressor(max_window_size=2**27).stream_reader(stream, read_across_frames=True))
    return cast(BufferedIOBase, stream)


def cuts_of(stream: IO[bytes], count: int) -> list[int]:
    """Return where about so many parts of equal size of a stream end, each with a line; nothing of a packed one."""
    if stream.read(_MAGIC).startswith(_PACKED):
        return []
    size, found = stream.seek(0, io.SEEK_END), [0]
    for number in range(1, count):
        stream.seek(size * number // count)
        ended = stream.readline(_LONGEST_LINE).endswith(b"\n")
        if ended and stream.tell() > found[-1]:
            found.append(stream.tell())
    return [*found[1:], size]


def _pieces(stream: BufferedIOBase) -> Iterator[bytes]:
    """Yield a stream as it comes: what is before damage is given out before the damage is met."""
    read = stream.read1 if hasattr(stream, "read1") else stream.read
    while block := read(_BLOCK):
        yield block


def whole_lines(stream: BufferedIOBase) -> Iterator[bytes]:
    """Yield a stream in blocks that end with a line; what comes before damage is given out before the error of the damage."""
    rest = b""
    try:
        for piece in _pieces(stream):
            block = rest + piece
            cut = block.rfind(b"\n") + 1
            if cut:
                yield block[:cut]
                rest = block[cut:]
            else:
                rest = block[:_LONGEST_LINE]
    except BROKEN:
        if rest:
            yield rest
        raise
    if rest:
        yield rest
