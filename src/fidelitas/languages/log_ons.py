"""utmp(5): who is logged on.

Knows the record of Linux, 384 bytes on every machine with 64-bit times kept as 32 (bits/utmp.h); not who stands behind a name.
"""

import struct
from collections.abc import Iterator
from datetime import UTC, datetime

from fidelitas.facts import LogOn
from fidelitas.text import decode

__all__ = ["read_log_ons"]

# type, pid, line, ID, user, host, exit status (2), session, seconds, microseconds, address (4 words), unused
_RECORD = struct.Struct("<hxxi32s4s32s256shhiii16s20x")
_USER_PROCESS = 7


def read_log_ons(content: bytes) -> Iterator[LogOn]:
    """Yield the sessions of people; a record that is cut off at the end is passed over."""
    whole = len(content) - len(content) % _RECORD.size
    for kind, pid, line, _, user, host, _, _, _, seconds, _, _ in _RECORD.iter_unpack(content[:whole]):
        if kind == _USER_PROCESS and _text(user):
            since = datetime.fromtimestamp(seconds, UTC)
            yield LogOn(account=_text(user), terminal=_text(line), host=_text(host), pid=pid, since=since)


def _text(field: bytes) -> str:
    return decode(field.partition(b"\0")[0])
