"""wtmp, btmp and lastlog: log-ins, log-outs, failed log-ins, and the last log-in of each account (utmp(5), lastlog(8))."""

import struct
from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime
from typing import Any

from fidelitas.errors import ReadError
from fidelitas.facts import Event, EventKind, Place
from fidelitas.languages.utmp import DEAD_PROCESS, USER_PROCESS, pieces, read_records
from fidelitas.text import decode

__all__ = ["LastLogReader", "LoginReader"]

_MOST = 1_000_000
_LAST = struct.Struct("<i32s256s")  # time, line, host; one record for each user ID, whether used or not


class LoginReader:
    """Reads wtmp or btmp; places count records.  Of a logout the account is that of the last login on its terminal."""

    def __init__(self, origin: Place) -> None:
        self._origin = origin
        self._failed = origin.path.rpartition("/")[2].startswith("btmp")
        self._accounts: dict[str, str] = {}  # that are logged in, by terminal
        self._count = 0

    @property
    def lasting(self) -> tuple[object, ...]:
        """What is known at the end of some records, for another reader to go on with."""
        return self._accounts, self._count

    @lasting.setter
    def lasting(self, known: tuple[Any, ...]) -> None:
        self._accounts, self._count = known

    def events(self, blocks: Iterable[bytes], after: int = 0, until: datetime | None = None) -> Iterator[Event]:
        """Yield the events of whole records, those after others that were read; nothing waits for others that come later."""
        del after, until
        for one in read_records(blocks):
            self._count += 1
            target, kind = one.account, EventKind.LOGIN_FAILED if self._failed else EventKind.LOGIN
            if one.kind == DEAD_PROCESS and not self._failed:
                target, kind = self._accounts.pop(one.terminal, ""), EventKind.CLOSED
            elif one.kind == USER_PROCESS:
                self._accounts[one.terminal] = one.account
            elif not self._failed:
                continue
            if target:
                yield Event(
                    at=one.at,
                    place=self._origin.at(self._count),
                    pid=one.pid,
                    kind=kind,
                    program="login records",
                    target=target,
                    terminal=one.terminal,
                    address=one.host,
                    typed=self._failed,
                )


class LastLogReader:
    """Reads lastlog; `names` are the accounts by user ID."""

    def __init__(self, origin: Place, names: Mapping[int, str]) -> None:
        self._origin, self._names = origin, names

    def events(self, blocks: Iterable[bytes]) -> Iterator[Event]:
        """Yield the last log-in of each account, by time."""
        yield from _last_logins(blocks, self._origin, self._names)


def _last_logins(content: Iterable[bytes], origin: Place, names: Mapping[int, str]) -> list[Event]:
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
