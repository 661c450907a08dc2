"""wtmp and btmp: log-ins, log-outs and failed log-ins in the records of utmp(5)."""

import struct
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime

from fidelitas.facts import Event, EventKind, Place
from fidelitas.text import decode

__all__ = ["is_log_in_records", "read_log_in_records"]

_RECORD = struct.Struct("<hxxi32s4s32s256shhiii16s20x")
_USER, _DEAD = 7, 8


def is_log_in_records(path: str) -> bool:
    """Return whether a log by its name holds such records: nothing in them says so."""
    return path.rpartition("/")[2].partition(".")[0].partition("-")[0] in ("wtmp", "btmp")


def read_log_in_records(content: Iterable[bytes], origin: Place) -> Iterator[Event]:
    """Yield the events of a file; places count records.  A record that is cut off at the end is passed over."""
    failed = origin.path.rpartition("/")[2].startswith("btmp")
    whole = b"".join(content)
    accounts: dict[bytes, str] = {}
    for number, row in enumerate(_RECORD.iter_unpack(whole[: len(whole) - len(whole) % _RECORD.size]), 1):
        kind, pid, line, _, user, host, _, _, _, seconds, _, _ = row
        account = _text(user)
        if kind == _USER:
            accounts[line] = account
        elif kind != _DEAD and not failed:
            continue
        gone = kind == _DEAD and not failed
        target = accounts.pop(line, "") if gone else account
        if target:
            yield Event(
                at=datetime.fromtimestamp(seconds, UTC),
                kind=EventKind.LOG_IN_FAILED if failed else EventKind.CLOSED if gone else EventKind.LOG_IN,
                program="login records",
                target=target,
                terminal=_text(line),
                address=_text(host),
                pid=pid,
                place=origin.at(number),
            )


def _text(field: bytes) -> str:
    return decode(field.partition(b"\0")[0])
