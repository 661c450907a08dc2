"""How the pieces of evidence are packed: whole, against an earlier piece, or in parts.

Pure.  A piece that changed little since the last time (a manifest, a listing of processes) is packed with zstd against the one before, so
that it costs what changed.  A long text, such as a log, is cut into parts where its own lines say so: a log that has grown, or was rotated
to another name, shares all parts but the last.
"""

import hashlib
import struct
import zlib
from collections.abc import Iterator
from enum import IntEnum

import zstandard

__all__ = ["LARGEST_BASE", "Form", "digest_of", "joined_ids", "pack", "pack_against", "parts_of", "split_ids", "unpack"]

# What a piece is stated against must be unpacked first, each time: longer ones cost more than they save.
LARGEST_BASE = 8 << 20
# Parts of a long text: about 64 KiB on the average, since one line in 512 ends one, of some hundred bytes each.
_SHORTEST, _LONGEST, _ENDS = 32 << 10, 1 << 20, 511
_LONG_TEXT = 256 << 10
# A piece is kept whole unless stating it against another saves at least half.
_WORTH = 2
_LEVEL = 3
_LARGEST = 1 << 31  # no piece is longer: the archive that brought it is refused before


class Form(IntEnum):
    """How a piece is packed."""

    WHOLE = 0  # zstd
    AGAINST = 1  # zstd with another piece as its dictionary
    PARTS = 2  # the numbers of other pieces, eight bytes each, zstd


def pack(content: bytes) -> bytes:
    """Return a piece packed by itself."""
    return zstandard.ZstdCompressor(level=_LEVEL).compress(content)


def pack_against(content: bytes, base: bytes, whole: int) -> bytes | None:
    """Return a piece packed against another; ``None`` where that saves less than half of the `whole` size that it has by itself."""
    if not base or max(len(content), len(base)) > LARGEST_BASE:
        return None
    parameters = zstandard.ZstdCompressionParameters.from_level(_LEVEL, source_size=len(content) + len(base), window_log=24)
    packed = zstandard.ZstdCompressor(dict_data=_dictionary(base), compression_params=parameters).compress(content)
    return packed if len(packed) * _WORTH < whole else None


def unpack(packed: bytes, base: bytes = b"") -> bytes:
    """Return what was packed; raises `zstandard.ZstdError` where it is not what was packed, or the base is another."""
    if not 0 <= zstandard.frame_content_size(packed) <= _LARGEST:
        raise zstandard.ZstdError("it does not state a size that a piece can have")
    unpacker = zstandard.ZstdDecompressor(dict_data=_dictionary(base)) if base else zstandard.ZstdDecompressor()
    return unpacker.decompress(packed)


def _dictionary(base: bytes) -> zstandard.ZstdCompressionDict:
    return zstandard.ZstdCompressionDict(base, dict_type=zstandard.DICT_TYPE_RAWCONTENT)


def parts_of(content: bytes) -> list[bytes]:
    """Return a long text in parts; one that is short, or was packed where it came from, as a whole.

    A part ends after a line whose own CRC-32 says so: a line that is added or removed changes its own part alone.
    """
    return list(_parts(content)) if len(content) > _LONG_TEXT and content.count(b"\n", 0, _SHORTEST) else [content]


def _parts(content: bytes) -> Iterator[bytes]:
    begins = 0
    while len(content) - begins > _SHORTEST:
        ends = _end(content, begins)
        yield content[begins:ends]
        begins = ends
    if begins < len(content):
        yield content[begins:]


def _end(content: bytes, begins: int) -> int:
    """Return where a part ends: after a line that says so, or where it has become too long."""
    latest = min(begins + _LONGEST, len(content))
    line = content.rfind(b"\n", begins, begins + _SHORTEST) + 1 or begins
    while ends := content.find(b"\n", line, latest) + 1:
        if ends - begins >= _SHORTEST and not zlib.crc32(content[line:ends]) & _ENDS:
            return ends
        line = ends
    return latest


def joined_ids(numbers: list[int]) -> bytes:
    """Return the numbers of parts as the content of the piece that they make."""
    return struct.pack(f"<{len(numbers)}q", *numbers)


def split_ids(content: bytes) -> list[int]:
    """Return the numbers of the parts of a piece; raises `struct.error` for what is not one."""
    return list(struct.unpack(f"<{len(content) // 8}q", content))


def digest_of(content: bytes) -> bytes:
    """Return the digest that a piece is known by."""
    return hashlib.sha256(content).digest()
