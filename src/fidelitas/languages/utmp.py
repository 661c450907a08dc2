"""The records of utmp(5): who is logged on, and in wtmp and btmp who was, or tried to be.

Knows the record of Linux, 384 bytes on every machine with 64-bit times kept as 32 (bits/utmp.h); not who stands behind a name.
"""

import struct
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import NamedTuple

from fidelitas.text import decode

__all__ = ["DEAD_PROCESS", "USER_PROCESS", "Record", "read_records"]

# type, pid, line, ID, user, host, exit status (2), session, seconds, microseconds, address (4 words), unused
_RECORD = struct.Struct("<hxxi32s4s32s256shhiii16s20x")
USER_PROCESS, DEAD_PROCESS = 7, 8


class Record(NamedTuple):
    """One record: `kind` is the type of utmp(5), `host` where from, empty for the machine itself."""

    kind: int
    account: str
    terminal: str
    host: str
    pid: int
    at: datetime


def read_records(content: bytes) -> Iterator[Record]:
    """Yield the records; one that is cut off at the end is passed over."""
    whole = len(content) - len(content) % _RECORD.size
    for kind, pid, line, _, user, host, _, _, _, seconds, _, _ in _RECORD.iter_unpack(content[:whole]):
        yield Record(kind, _text(user), _text(line), _text(host), pid, datetime.fromtimestamp(seconds, UTC))


def _text(field: bytes) -> str:
    return decode(field.partition(b"\0")[0])
