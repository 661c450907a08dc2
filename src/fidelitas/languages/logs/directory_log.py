"""What a Samba domain controller logs as JSON: log-ons, changes of groups and passwords (smb.conf(5), "log level", classes with _json).

An object a line, perhaps behind a head of the server's own.  The numbers of events are those of Windows.
"""

import json
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import UTC, datetime
from typing import Any, ClassVar

from fidelitas.facts import Change, Event, EventKind, Gap, Place

__all__ = ["DirectoryLogReader", "is_directory_log"]

_OBJECT = re.compile(rb'\{"timestamp":.*\}')
_TYPES = (b'"type": "Authentication"', b'"type": "groupChange"', b'"type": "passwordChange"')
_LONGEST = 1 << 20
_KINDS = re.compile(rb'"type": "(?:dsdb\w+|Authentication|Authorization|groupChange|passwordChange)"')


def is_directory_log(start: bytes) -> bool:
    """Return whether a log that begins so is one of a domain controller."""
    return b'{"timestamp":' in start and _KINDS.search(start) is not None


class DirectoryLogReader:
    """Reads one log; `sids` are the names of accounts by SID."""

    def __init__(self, origin: Place, sids: Mapping[str, str] | None = None) -> None:
        self._origin = origin
        self._sids = sids or {}
        self.gaps: list[Gap] = []

    def events(self, blocks: Iterable[bytes]) -> Iterator[Event]:
        """Yield what the log tells of privilege; a line that is not as expected is a gap and costs only itself."""
        number = 0
        for block in blocks:
            for line in block.split(b"\n"):
                number += 1
                if any(kind in line for kind in _TYPES) and len(line) < _LONGEST:
                    yield from self._line(line, number)
            number -= 1 if block.endswith(b"\n") else 0

    def _line(self, line: bytes, number: int) -> Iterator[Event]:
        found = _OBJECT.search(line)
        try:
            stated = json.loads(found[0] if found else line)
            event = self._readers[stated["type"]](self, stated[stated["type"]], _time(stated["timestamp"]), self._origin.at(number))
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
            why = f"not as expected: {type(error).__name__}"
            place, lost = self._origin.at(number), "its content is not known"
            self.gaps.append(Gap(what="line of a directory's log", why=why, weakens=lost, place=place))
            return
        if event is not None:
            yield event

    def _logon(self, told: Mapping[str, Any], at: datetime | None, place: Place) -> Event | None:
        name = str(told.get("becameAccount") or told.get("mappedAccount") or told.get("clientAccount") or "")
        if name.endswith("$") or not name:
            return None
        failed = told["eventId"] == 4625
        why = str(told["status"]).removeprefix("NT_STATUS_").replace("_", " ").lower()
        reason = why if failed else str(told.get("authDescription") or "")
        kind = EventKind.LOGIN_FAILED if failed else EventKind.LOGIN
        event = Event(at=at, place=place, pid=None, kind=kind, program="directory", target=name, address=_address(told), reason=reason)
        return event._replace(typed=failed and why == "no such user")

    def _group(self, told: Mapping[str, Any], at: datetime | None, place: Place) -> Event | None:
        if told["status"] != "Success" or told["action"] not in ("Added", "Removed"):
            return None
        added = told["action"] == "Added"
        reason = "added to the group" if added else "removed from the group"
        event = self._changed(told, at, place, target=_common(told["user"]), group=_common(told["group"]), reason=reason)
        return event._replace(change=Change.MEMBER_ADDED if added else Change.MEMBER_REMOVED)

    def _password(self, told: Mapping[str, Any], at: datetime | None, place: Place) -> Event | None:
        if told["status"] != "Success":
            return None
        reason = "password changed" if told.get("action") == "Change" else "password set by another"
        return self._changed(told, at, place, target=_common(told["dn"]), reason=reason)

    def _changed(self, told: Mapping[str, Any], at: datetime | None, place: Place, **more: str) -> Event:
        who = self._sids.get(str(told["userSid"]), str(told["userSid"]))
        return Event(
            at=at, place=place, pid=None, kind=EventKind.CHANGED, program="directory", account=who, address=_address(told),
            target=more.get("target", ""), group=more.get("group", ""), reason=more["reason"],
        )  # fmt: skip

    _readers: ClassVar[Mapping[str, Callable[["DirectoryLogReader", Mapping[str, Any], datetime | None, Place], Event | None]]] = {
        "Authentication": _logon,
        "groupChange": _group,
        "passwordChange": _password,
    }


def _common(dn: str) -> str:
    found = re.match(r"CN=((?:[^,\\]|\\.)+)", dn, re.IGNORECASE)
    return re.sub(r"\\(.)", r"\1", found[1]) if found else dn


def _address(told: Mapping[str, Any]) -> str:
    found = re.match(r"ipv[46]:(.*):\d+\Z", str(told.get("remoteAddress") or ""))
    return found[1] if found else ""


def _time(text: str) -> datetime | None:
    try:
        return datetime.strptime(text, "%Y-%m-%dT%H:%M:%S.%f%z").astimezone(UTC)
    except ValueError:
        return None
