"""The records of utmp(5): who is logged on, and in wtmp and btmp who was, or tried to be.

Knows the record of Linux, 384 bytes on every machine with 64-bit times kept as 32 (bits/utmp.h); not who stands behind a name.
The probe writes btmp as hexadecimal digits, a record a line, since shells cannot handle bytes.
"""

import re
import struct
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from typing import NamedTuple

from fidelitas.text import decode

__all__ = ["DEAD_PROCESS", "USER_PROCESS", "Record", "pieces", "read_records", "whole_records"]

# type, pid, line, ID, user, host, exit status (2), session, seconds, microseconds, address (4 words), unused
_RECORD = struct.Struct("<hxxi32s4s32s256shhiii16s20x")
USER_PROCESS, DEAD_PROCESS = 7, 8
_DIGITS = re.compile(rb"[0-9a-f]{4}")
_LINE = re.compile(rb"(?:[0-9a-f]{2})+")


class Record(NamedTuple):
    """One record: `kind` is the type of utmp(5), `host` where from, empty for the machine itself."""

    kind: int
    account: str
    terminal: str
    host: str
    pid: int
    at: datetime


def read_records(blocks: Iterable[bytes]) -> Iterator[Record]:
    """Yield the records in some blocks of bytes, or of lines of hexadecimal digits; one that is cut off at the end is skipped."""
    for kind, pid, line, _, user, host, _, _, _, seconds, _, _ in map(_RECORD.unpack, pieces(_as_bytes(blocks), _RECORD.size)):
        yield Record(kind, _text(user), _text(line), _text(host), pid, datetime.fromtimestamp(seconds, UTC))


def whole_records(block: bytes) -> int:
    """Return how many bytes of a block, with which records begin, are of whole ones."""
    return block.rfind(b"\n") + 1 if _DIGITS.match(block) else len(block) - len(block) % _RECORD.size


def pieces(blocks: Iterable[bytes], size: int) -> Iterator[bytes]:
    """Yield the pieces of one size that some blocks hold, each block read as it comes."""
    rest = b""
    for block in blocks:
        held = rest + block
        whole = len(held) - len(held) % size
        yield from (held[at : at + size] for at in range(0, whole, size))
        rest = held[whole:]


def _as_bytes(blocks: Iterable[bytes]) -> Iterator[bytes]:
    """Yield blocks of bytes as they are, those of lines of hexadecimal digits as what they say."""
    rest, written = b"", None
    for block in blocks:
        if written is None:  # the type of a record is a small number: it never reads as two digits
            written = _DIGITS.match(block) is not None
        if written:
            lines, _, rest = (rest + block).rpartition(b"\n")
            yield b"".join(bytes.fromhex(line.decode()) for line in lines.split(b"\n") if _LINE.fullmatch(line))
            rest = rest[: 2 * _RECORD.size]
        else:
            yield block


def _text(field: bytes) -> str:
    return decode(field.partition(b"\0")[0])
