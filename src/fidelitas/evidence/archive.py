"""Reading a tar archive that someone else made, without trusting it.

Knows tar and its compressions; not what the members are.  Nothing is ever written to disk.  Refused: absolute paths and ``..``, links,
devices, sparse files, members and totals beyond the limits, and archives that unpack to far more than they are.  An archive that ends
early is not an error: what came before is good, and the caller is told.
"""

import gzip
import io
import tarfile
import zlib
from collections.abc import Iterator
from typing import IO, cast

import zstandard
from msgspec import Struct

from fidelitas.errors import EvidenceError
from fidelitas.text import clipped, escape_control

__all__ = ["LIMITS", "Limits", "Member", "is_archive", "open_archive"]


class Limits(Struct, frozen=True, kw_only=True):
    """How much an archive may ask of us."""

    members: int = 100_000
    member_size: int = 128 * 2**20  # the probe itself copies no file above 64 MiB
    total_size: int = 2 * 2**30
    # Text compresses 5 to 20 times, a long list of one account's lines perhaps 100 times; bombs reach 1000 and more.  The ratio counts
    # only beyond the first 64 MiB, so that small bundles may be as repetitive as they like.
    ratio: int = 200
    ratio_floor: int = 64 * 2**20


LIMITS = Limits()


class Member(Struct, frozen=True, kw_only=True):
    """A member of an archive, or, where `refused` is set, the reason why it was skipped."""

    name: str
    content: bytes = b""
    refused: str = ""


class _Metered(io.RawIOBase):
    """A stream that stops at the limits.  It counts what comes out against what went in."""

    def __init__(self, packed: "_Counted", stream: IO[bytes], limits: Limits) -> None:
        super().__init__()
        self._packed, self._stream, self._limits = packed, stream, limits
        self._total = 0

    def read(self, size: int = -1) -> bytes:
        block = self._stream.read(size)
        self._total += len(block)
        if self._total > self._limits.total_size:
            raise EvidenceError(f"the archive unpacks to more than {self._limits.total_size} bytes")
        if self._total > max(self._limits.ratio_floor, self._limits.ratio * self._packed.total):
            raise EvidenceError(f"the archive unpacks to more than {self._limits.ratio} times its size")
        return block


class _Counted(io.RawIOBase):
    """A stream that counts the bytes taken from it."""

    def __init__(self, stream: IO[bytes]) -> None:
        super().__init__()
        self._stream = stream
        self.total = 0

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: object) -> int:
        view = memoryview(buffer)  # type: ignore[arg-type]
        block = self._stream.read(len(view))
        view[: len(block)] = block
        self.total += len(block)
        return len(block)


_MAGIC = {b"\x1f\x8b": "gzip", b"\x28\xb5\x2f\xfd": "zstd"}
# Where the head of a member has its mark, ustar or GNU (tar(5)).
_MARK_AT, _MARK = 257, b"ustar"


def is_archive(content: bytes) -> bool:
    """Return whether a file is an archive, by its first bytes alone: what is in it is written by the people under audit."""
    return content.startswith((*_MAGIC, b"manifest.json\0")) or content.startswith(_MARK, _MARK_AT)


def _unpacked(stream: IO[bytes], limits: Limits) -> _Metered:
    counted = _Counted(stream)
    packed = io.BufferedReader(counted)
    start = packed.peek(4)[:4]
    kind = next((name for magic, name in _MAGIC.items() if start.startswith(magic)), "")
    unpacked: IO[bytes] = packed
    if kind == "gzip":
        unpacked = cast(IO[bytes], gzip.GzipFile(fileobj=packed))
    elif kind == "zstd":
        unpacked = zstandard.ZstdDecompressor(max_window_size=2**27).stream_reader(packed, read_across_frames=True)
    return _Metered(counted, unpacked, limits)


# What tarfile and the decompressors raise on damaged input, gathered by feeding them damaged input.
_DAMAGE = (tarfile.TarError, EOFError, OSError, zlib.error, zstandard.ZstdError, ValueError, OverflowError, IndexError)


def open_archive(stream: IO[bytes], limits: Limits = LIMITS) -> Iterator[Member]:
    """Yield the members in order.  The last one is refused, with the reason, where the archive is damaged or ends early.

    Raises `EvidenceError` when a limit is passed or the stream is no archive at all.
    """
    count = 0
    try:
        with tarfile.open(fileobj=cast(IO[bytes], _unpacked(stream, limits)), mode="r|", errors="surrogateescape") as archive:
            for entry in archive:
                count += 1
                if count > limits.members:
                    raise EvidenceError(f"the archive has more than {limits.members} members")
                if not entry.isdir():
                    yield _member(archive, entry, limits)
    except _DAMAGE as error:
        if count == 0:
            raise EvidenceError(f"not a tar archive, plain or packed with gzip or zstd: {_reason(error)}") from error
        yield Member(name="", refused=f"the archive is damaged or ends early after {count} members: {_reason(error)}")


def _reason(error: BaseException) -> str:
    return clipped(escape_control(str(error)), 80) or type(error).__name__


def _member(archive: tarfile.TarFile, entry: tarfile.TarInfo, limits: Limits) -> Member:
    name = entry.name
    if name.startswith("/") or ".." in name.split("/") or "\0" in name:
        return Member(name=name, refused="its name reaches out of the archive")
    if not entry.isreg() or entry.issparse():
        return Member(name=name, refused="it is not a plain file")
    if entry.size > limits.member_size:
        return Member(name=name, refused=f"it is larger than {limits.member_size} bytes")
    opened = archive.extractfile(entry)
    content = opened.read() if opened else b""
    if len(content) != entry.size:
        raise EOFError(f'member "{clipped(escape_control(name), 80)}" is cut off')
    return Member(name=name.removeprefix("./"), content=content)
