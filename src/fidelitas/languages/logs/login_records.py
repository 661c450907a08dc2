"""wtmp, btmp and lastlog: log-ins, log-outs, failed log-ins, and the last log-in of each account (utmp(5), lastlog(8))."""

import struct
from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime

from fidelitas.errors import ReadError
from fidelitas.facts import Event, EventKind, Place
from fidelitas.languages.utmp import DEAD_PROCESS, USER_PROCESS, pieces, read_records
from fidelitas.text import decode

__all__ = ["LastLogReader", "LoginReader", "read_last_log", "read_login_records"]

_MOST = 1_000_000
_LAST = struct.Struct("<i32s256s")  # time, line, host; one record for each user ID, whether used or not


class LoginReader:
    """Reads wtmp or btmp."""

    def __init__(self, origin: Place) -> None:
        self._origin = origin

    def events(self, blocks: Iterable[bytes]) -> Iterator[Event]:
        """Yield the events of a file."""
        return read_login_records(blocks, self._origin)


class LastLogReader:
    """Reads lastlog; `names` are the accounts by user ID."""

    def __init__(self, origin: Place, names: Mapping[int, str]) -> None:
        self._origin, self._names = origin, names

    def events(self, blocks: Iterable[bytes]) -> Iterator[Event]:
        """Yield the last log-in of each account, by time."""
        yield from read_last_log(blocks, self._origin, self._names)


def read_login_records(content: Iterable[bytes], origin: Place) -> Iterator[Event]:
    """Yield the events of a file; places count records.  A log-out is told by its terminal, whose last log-in tells the account."""
    failed = origin.path.rpartition("/")[2].startswith("btmp")
    accounts: dict[str, str] = {}
    for number, one in enumerate(read_records(content), 1):
        target, kind = one.account, EventKind.LOGIN_FAILED if failed else EventKind.LOGIN
        if one.kind == DEAD_PROCESS and not failed:
            target, kind = accounts.pop(one.terminal, ""), EventKind.CLOSED
        elif one.kind == USER_PROCESS:
            accounts[one.terminal] = one.account
        elif not failed:
            continue
        if target:
            yield Event(
                at=one.at,
                place=origin.at(number),
                pid=one.pid,
                kind=kind,
                program="login records",
                target=target,
                terminal=one.terminal,
                address=one.host,
                typed=failed,
            )


def read_last_log(content: Iterable[bytes], origin: Place, names: Mapping[int, str]) -> list[Event]:
    """Return the last log-in of each account, by time; places count records, of which the first is that of user ID 0.

    Raises `ReadError` for a file with a record of more accounts than any host has.
    """
    found: list[Event] = []
    for uid, record in enumerate(pieces(content, _LAST.size)):
        if any(record[:4]):  # the file is sparse: nearly all are empty
            seconds, terminal, host = _LAST.unpack(record)
            if len(found) >= _MOST:
                raise ReadError(f'log "{origin.path}" has last logins of more than {_MOST} accounts: it is not read')
            found.append(
                Event(
                    at=datetime.fromtimestamp(max(seconds, 0), UTC),
                    place=origin.at(uid + 1),
                    pid=None,
                    kind=EventKind.LOGIN,
                    program="login records",
                    target=names.get(uid, f"#{uid}"),
                    terminal=_text(terminal),
                    address=_text(host),
                    reason="last login",
                    last_only=True,
                )
            )
    return sorted(found, key=lambda event: event.at or datetime.min.replace(tzinfo=UTC))


def _text(field: bytes) -> str:
    return decode(field.partition(b"\0")[0])
