"""The log of a PostgreSQL server: JSON, CSV, or lines that begin with time, process, user and database (PostgreSQL manual, 20.8).

Log-ins are told with ``log_connections``, changes of roles and grants, and what is done as another role, with ``log_statement``.
Passwords in statements are masked.
"""

import csv
import json
import re
from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime, timedelta, timezone, tzinfo
from typing import Protocol
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from fidelitas.facts import Change, Event, EventKind, Gap, Place
from fidelitas.masking import mask
from fidelitas.text import decode

__all__ = ["PostgresqlLogReader", "is_postgresql_log"]

_COLUMNS = (
    "timestamp", "user", "dbname", "pid", "remote", "session_id", "line_num", "ps", "session_start", "vxid", "txid", "error_severity",
    "state_code", "message", "detail", "hint", "internal_query", "internal_query_pos", "context", "statement",
)  # fmt: skip
_STAMP = r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d(?:\.\d+)? [A-Za-z0-9+:-]{1,40}"
_TEXT = re.compile(
    rf"(?P<timestamp>{_STAMP}) \[(?P<pid>\d+)\](?: (?P<user>[^@ ]*)@(?P<dbname>\S*))? (?P<error_severity>[A-Z0-9]+):  (?P<message>.*)",
    re.DOTALL,
)
_CSV = re.compile(rf'{_STAMP},(?:"|,)')
_LONGEST = 1 << 20
_NAME = r'("(?:[^"]|"")+"|[\w$]+)'
_PASSWORD = re.compile(r"(?i)(\bpassword\s+(?:E|U&)?)'(?:[^']|'')*'")
_AUTHORIZED = re.compile(r"connection authorized: user=(\S+)(?: database=(\S+))?")
# Whether what stands for a role is what was typed, and need not be one.
_REFUSED = (
    (
        re.compile(r'(?:password|Peer|Ident|LDAP|PAM|GSSAPI|certificate|RADIUS) authentication failed for user "(.*)"'),
        "wrong password",
        True,
    ),
    (re.compile(r'no pg_hba\.conf entry for .*user "(.*?)"'), "no access rule matches", True),
    (re.compile(r'pg_hba\.conf rejects connection for .*user "(.*?)"'), "a rule rejects it", True),
    (re.compile(r'role "(.*)" is not permitted to log in'), "not permitted to log in", False),
    (re.compile(r'role "(.*)" does not exist'), "no such role", True),
)
_LIST, _ONE = rf"(?P<group>{_NAME}(?:\s*,\s*{_NAME})*)", rf"(?P<target>{_NAME})"
_IN_FILES = r"\b(?:pg_read_file|pg_read_binary_file|pg_ls_dir|lo_import|lo_export)\s*\("
# Statements: kind of event, what is done, and which of its words are the target and the group; the first that fits counts.
_STATEMENTS = tuple(
    (re.compile(pattern, re.IGNORECASE | re.DOTALL), kind, reason, change[0] if change else None)
    for pattern, kind, reason, *change in (
        (rf"grant\s+{_LIST}\s+to\s+{_ONE}", EventKind.CHANGED, "added to the group", Change.MEMBER_ADDED),
        (
            rf"revoke\s+(?:\w+\s+option\s+for\s+)?{_LIST}\s+from\s+{_ONE}",
            EventKind.CHANGED,
            "removed from the group",
            Change.MEMBER_REMOVED,
        ),
        (rf"grant\s.+\son\s.+\sto\s+{_ONE}", EventKind.CHANGED, "privileges granted"),
        (rf"revoke\s.+\son\s.+\sfrom\s+{_ONE}", EventKind.CHANGED, "privileges revoked"),
        (rf"create\s+(?:role|user|group)\s+{_ONE}", EventKind.CHANGED, "account made", Change.ACCOUNT_CREATED),
        (rf"drop\s+(?:role|user|group)\s+(?:if\s+exists\s+)?{_ONE}", EventKind.CHANGED, "account removed", Change.ACCOUNT_DELETED),
        (rf"alter\s+(?:role|user)\s+{_ONE}.*\bpassword\b", EventKind.CHANGED, "password changed"),
        (rf"alter\s+(?:role|user)\s+{_ONE}", EventKind.CHANGED, "account changed"),
        (r"alter\s+system\s", EventKind.CHANGED, "settings of the server changed"),
        (r"alter\s+default\s+privileges", EventKind.CHANGED, "default privileges changed"),
        (rf"set\s+(?:session\s+|local\s+)?role\s+(?:to\s+)?'?(?!none\b){_ONE}", EventKind.USED, ""),
        (rf"set\s+session\s+authorization\s+'?(?!default\b){_ONE}", EventKind.USED, ""),
        (r"copy\s.+\s(?:from|to)\s+program\b", EventKind.USED, "a program of the server's host"),
        (rf"(?:select|copy)\s.*{_IN_FILES}", EventKind.USED, "files of the server's host"),
    )
)


class Make(Protocol):
    """Makes an event of a kind, with the time and place of its line."""

    def __call__(self, kind: EventKind, **told: str) -> Event: ...


def is_postgresql_log(start: bytes) -> bool:
    """Return whether a log that begins so is one of PostgreSQL."""
    text = decode(start)
    if text.startswith("{"):
        return '"error_severity"' in text and '"backend_type"' in text
    first = text.partition("\n")[0]
    return _CSV.match(text) is not None or _TEXT.match(first) is not None


class PostgresqlLogReader:
    """Reads one log in any of its forms; what could not be read is in `gaps`."""

    def __init__(self, origin: Place, zone: tzinfo = UTC) -> None:
        self._origin = origin
        self._zone = zone
        self.gaps: list[Gap] = []

    def events(self, blocks: Iterable[bytes]) -> Iterator[Event]:
        """Yield what the log tells of privilege."""
        for row, line in self._rows(_lines(blocks)):
            event = self._event(row, line)
            if event is not None:
                yield event

    def _rows(self, lines: Iterator[tuple[str, int]]) -> Iterator[tuple[Mapping[str, str], int]]:
        held, begun = "", 0
        for text, number in lines:
            if not held and text.startswith("{"):
                yield from self._json(text, number)
            elif held and (_whole(held) and (_TEXT.match(text) or _CSV.match(text))):
                yield from self._row(held, begun)
                held, begun = text, number
            elif len(held) < _LONGEST:  # a statement of several lines goes on
                held, begun = (f"{held}\n{text}", begun) if held else (text, number)
        if held:
            yield from self._row(held, begun)

    def _json(self, text: str, number: int) -> Iterator[tuple[Mapping[str, str], int]]:
        try:
            stated = json.loads(text)
            yield {name: str(value) for name, value in stated.items()}, number
        except (ValueError, AttributeError, RecursionError):
            self._gap("not JSON", number)

    def _row(self, text: str, number: int) -> Iterator[tuple[Mapping[str, str], int]]:
        found = _TEXT.match(text)
        if found is not None:
            yield {name: value or "" for name, value in found.groupdict().items()}, number
        elif _CSV.match(text):
            try:
                fields = next(csv.reader([text.replace("\n", "\v").replace("\r", " ")], strict=False), [])
            except csv.Error as error:  # a field longer than the reader takes
                self._gap(str(error), number)
                return
            yield {name: value.replace("\v", "\n") for name, value in zip(_COLUMNS, fields, strict=False)}, number
        elif text.strip():
            self._gap("not in a form that is known", number)

    def _gap(self, why: str, line: int) -> None:
        lost, place = "its content is not known", self._origin.at(line)
        self.gaps.append(Gap(what="line of a database server's log", why=why, weakens=lost, place=place))

    def _event(self, row: Mapping[str, str], line: int) -> Event | None:
        message, user = row.get("message", ""), row.get("user", "")
        process = row.get("pid", "")

        def make(kind: EventKind, **told: str) -> Event:
            pid = int(process) if process.isdecimal() and len(process) < 10 else None
            at, place = self._time(row.get("timestamp", "")), self._origin.at(line)
            return Event(at=at, place=place, pid=pid, kind=kind, program="postgresql", **told)  # type: ignore[arg-type]

        address = row.get("remote_host") or row.get("remote", "").rpartition(":")[0]
        address = "" if address in ("[local]", "") else address
        authorized = _AUTHORIZED.match(message)
        if authorized is not None:
            return make(EventKind.LOGIN, target=authorized[1], address=address, reason=f"database {authorized[2]}" if authorized[2] else "")
        for pattern, why, typed in _REFUSED:
            found = pattern.match(message) if row.get("error_severity") == "FATAL" else None
            if found is not None:
                failed = make(EventKind.LOGIN_FAILED, target=found[1], address=address, reason=why)
                return failed._replace(typed=typed)
        if row.get("state_code") == "42501" or (row.get("error_severity") == "ERROR" and message.startswith("permission denied")):
            return make(EventKind.REFUSED, account=user, command=_masked(row.get("statement", "")), reason=message)
        statement = re.match(r"(?:statement|execute [^:]*): (.*)", message, re.DOTALL)
        return None if statement is None else self._done(statement[1].strip(), user, make)

    @staticmethod
    def _done(statement: str, user: str, make: Make) -> Event | None:
        for pattern, kind, reason, change in _STATEMENTS:
            found = pattern.match(statement)
            if found is not None:
                parts = {name: _unquoted(value) for name, value in found.groupdict().items()}
                return make(kind, account=user, command=_masked(statement), reason=reason, **parts)._replace(change=change)
        return None

    def _time(self, text: str) -> datetime | None:
        stamp, _, zone = text.rpartition(" ")
        try:
            return datetime.fromisoformat(stamp).replace(tzinfo=_zone(zone, self._zone)).astimezone(UTC)
        except (ValueError, OverflowError):
            return None


def _lines(blocks: Iterable[bytes]) -> Iterator[tuple[str, int]]:
    number = 0
    for block in blocks:
        lines = decode(block).split("\n")
        for text in lines[:-1] if block.endswith(b"\n") else lines:
            number += 1
            yield text.removesuffix("\r"), number


def _whole(text: str) -> bool:
    """Return whether no quotation of CSV is open: a statement of several lines stands within one."""
    return not _CSV.match(text) or text.count('"') % 2 == 0


def _zone(name: str, otherwise: tzinfo) -> tzinfo:
    """Return the zone that a stamp names: UTC, an offset, a place; an abbreviation that is none of these is taken for the host's."""
    if name in ("UTC", "GMT"):
        return UTC
    found = re.fullmatch(r"([+-])(\d\d)(?::?(\d\d))?", name)
    if found is not None:
        offset = timedelta(hours=int(found[2]), minutes=int(found[3] or 0))
        return timezone(-offset if found[1] == "-" else offset)
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        return otherwise


def _unquoted(name: str) -> str:
    return name[1:-1].replace('""', '"') if name.startswith('"') else name


def _masked(statement: str) -> str:
    return _PASSWORD.sub(lambda found: found[1] + mask(found[0][len(found[1]) :]), " ".join(statement.split()))
