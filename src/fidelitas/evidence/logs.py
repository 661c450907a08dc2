"""Logs in blocks of whole lines, unpacked: those of a bundle, and whatever else can be opened as a stream.

Knows compressions; not what is in a log.  A damaged log gives out what comes before the damage.
"""

import bz2
import gzip
import io
import lzma
import re
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime
from functools import partial
from io import BufferedIOBase
from typing import IO, cast

import zstandard

from fidelitas.errors import ReadError

__all__ = ["LogCopy", "bounded", "family_of", "log_copy", "unpacked", "whole_lines"]

_BLOCK = 1 << 20
# A line that is longer is cut: no program that we read writes such lines, and whoever makes one wants to stop the reader.
_LONGEST_LINE = 1 << 20
# What a packed log may unpack to: one whose lines are nearly all empty packs some thousand times; ten kilobytes can hold as much as a disk.
_RATIO, _ALWAYS, _LARGEST = 2000, 64 << 20, 16 << 30
_TURN = re.compile(r"(?:[.-]\d+)?(?:\.(?:gz|xz|zst|bz2))?\Z")
BROKEN = (OSError, EOFError, lzma.LZMAError, zlib.error, zstandard.ZstdError)


@dataclass(frozen=True, slots=True)
class LogCopy:
    """One log of a bundle: `blocks` reads it anew; `by` is when it was last written to, `family` the log that it was rotated from."""

    path: str
    subject: str
    family: str
    by: datetime
    blocks: Callable[[], Iterator[bytes]]
    survey: int = 0


def log_copy(path: str, subject: str, by: datetime, content: bytes, survey: int = 0) -> LogCopy:
    """Return the copy of a log that a bundle holds, packed or not."""
    return LogCopy(path, subject, family_of(path), by, partial(_blocks, content, f"{subject}:{path}"), survey)


def family_of(path: str) -> str:
    """Return the path of the log that one was rotated from."""
    return _TURN.sub("", path)


def _blocks(content: bytes, name: str) -> Iterator[bytes]:
    try:
        yield from bounded(whole_lines(unpacked(cast(IO[bytes], io.BytesIO(content)))), len(content), name)
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


def unpacked(stream: IO[bytes]) -> BufferedIOBase:
    """Return a stream that unpacks another, by what it begins with; the other must be one that can be rewound."""
    magic = stream.read(6)
    stream.seek(0)
    if magic.startswith(b"\x1f\x8b"):
        return gzip.GzipFile(fileobj=stream)
    if magic.startswith(b"\xfd7zXZ"):
        return lzma.LZMAFile(stream)
    if magic.startswith(b"BZh"):
        return bz2.BZ2File(stream)
    if magic.startswith(b"\x28\xb5\x2f\xfd"):
        return cast(BufferedIOBase, zstandard.ZstdDecompressor(max_window_size=2**27).stream_reader(stream, read_across_frames=True))
    return cast(BufferedIOBase, stream)


def whole_lines(stream: BufferedIOBase) -> Iterator[bytes]:
    """Yield a stream in blocks that end with a line; what comes before damage is given out before the error of the damage."""
    rest = b""
    read = stream.read1 if hasattr(stream, "read1") else stream.read  # what comes before the damage is given out before it is met
    try:
        while block := read(_BLOCK):
            block = rest + block
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
