"""Lines of syslog in the forms that other programs give them: with another stamp, behind a file's name, or as an object of JSON.

journalctl(1) has its own stamps, grep(1) writes a file's name before a line, and what carries logs from host to host writes objects, each
with other names: which name says what is in one table here.  What comes back is the line as syslog writes it.
"""

import json
import re
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from typing import Any

__all__ = ["plain_stamp", "unwrapped"]

_EMPTY = b"\0 \t\r\xef\xbb\xbf"  # bytes of a crash, or the mark of an editor
# What may stand before a line: how long it is (RFC 6587), the file or the host that it is from, the container.
_BEFORE = rb"(?:\d{1,7} (?=<)|[^\s:|]{1,255}:(?:\d{1,9}:)? ?(?=[A-Z<\d])|[^\s|]{1,255} {0,40}\| )?"
_CLOCK = rb"(?P<time>\d\d:\d\d:\d\d)(?:[.,](?P<fraction>\d{1,9}))?"
_ZONES = {
    b"UTC": b"+00:00", b"GMT": b"+00:00", b"Z": b"+00:00", b"WET": b"+00:00", b"WEST": b"+01:00", b"BST": b"+01:00", b"CET": b"+01:00",
    b"CEST": b"+02:00", b"EET": b"+02:00", b"EEST": b"+03:00", b"MSK": b"+03:00", b"EST": b"-05:00", b"EDT": b"-04:00", b"MST": b"-07:00",
    b"MDT": b"-06:00", b"PST": b"-08:00", b"PDT": b"-07:00", b"JST": b"+09:00", b"KST": b"+09:00", b"AEST": b"+10:00", b"AEDT": b"+11:00",
    b"NZST": b"+12:00", b"NZDT": b"+13:00",
}  # fmt: skip
_LONGER_FIRST: list[bytes] = sorted(_ZONES, key=len, reverse=True)
_OFFSET = rb"[+-]\d\d(?::?\d\d)?"
_KNOWN_ZONE = rb"(?P<zone>" + b"|".join(_LONGER_FIRST) + rb"|" + _OFFSET + rb")"
_DATE = rb"(?P<date>\d{4}[-/]\d\d[-/]\d\d)"
_MONTH = rb"(?P<month>[A-Z][a-z]{2}) {1,2}(?P<day>\d{1,2})"
# One of each: a day of the week and any zone (journalctl), a zone or none, a year before or behind a month, seconds since 1970.
_STAMPS = (
    rb"[A-Z][a-z]{2} " + _DATE + rb" " + _CLOCK + rb" (?P<zone>" + _OFFSET + rb"|[A-Z][A-Za-z]{1,4})",
    _DATE + rb"[ T]" + _CLOCK + rb"(?: ?" + _KNOWN_ZONE + rb")?",
    rb"(?:[A-Z][a-z]{2} )?" + _MONTH + rb",? (?P<year>\d{4}) " + _CLOCK + rb"(?: " + _KNOWN_ZONE + rb")?",
    rb"(?:[A-Z][a-z]{2} )?(?:(?P<year>\d{4}) )?" + _MONTH + rb" " + _CLOCK + rb"(?: (?P<late>\d{4})(?= |\Z))?",
    rb"(?P<epoch>\d{9,10})(?:\.(?P<fraction>\d{1,9}))?",
)
_LINES = tuple(
    re.compile(rb"(?P<before>" + _BEFORE + rb")(?P<level>(?:<\d{1,3}>)?(?:1 )?)(?P<stamp>" + stamp + rb")[ \t]+(?P<rest>\S[^\n]*)")
    for stamp in _STAMPS
)
_WHOLE = tuple(re.compile(stamp) for stamp in _STAMPS)
_MONTHS = {b"JanFebMarAprMayJunJulAugSepOctNovDec"[at : at + 3]: at // 3 + 1 for at in range(0, 36, 3)}
# A file of objects with when and of which sort each is before it.
_OBJECT = re.compile(rb"(?:(?P<stamp>\S{19,40})\t[^\t\n]{0,255}\t)?(?=\{)")
_UNITS = ((10**17, 10**9), (10**14, 10**6), (10**11, 10**3))  # from where a number counts in nanoseconds, and so on, in a second

# By which names objects state the parts of a line, the surest first; a dot stands for an object within another.
_WHEN = ("timereported", "@timestamp", "isodate", "timestamp", "eventtime", "time", "timegenerated", "date", "_time", "unixtime")
_WHERE = (
    "hostname", "host.hostname", "host.name", "host", "computer", "source", "logsource", "host_from", "fromhost",
    "labels.host", "labels.hostname",
)  # fmt: skip
_PROGRAM = (
    "programname", "program", "app-name", "appname", "app_name", "application_name", "_application_name", "_program", "ident",
    "process.name", "processname", "sourcename", "syslog_identifier",
)  # fmt: skip
_PROCESS = ("procid", "pid", "process.pid", "processid", "process_id", "_process_id", "_pid_", "syslog_pid")
_TAG = ("syslogtag", "tag")
_TEXT = ("msg", "message", "syslogmessage", "short_message", "log", "line", "textpayload")
# What holds the line as it was read from a file, where no program is stated beside it; of ``msg`` anyone may be the author.
_LINE = ("event.original", "_raw", "rawmsg", "raw", "log", "line", "textpayload", "message")
# What the journal itself says of who wrote an entry: this is read with it (`journal`), or not at all.
_OF_JOURNAL = ("__realtime_timestamp", "__cursor", "_comm", "_exe", "_hostname", "_transport")
_TAGGED = re.compile(r"([^\s\[\]:]{1,64}\]?)(?:\[(\d{1,9})\])?:?\Z")
_is_name = re.compile(r"[^\s|/]{0,254}[^\s:|/]").fullmatch
_is_program = re.compile(r"[^\s\[:]{1,64}").fullmatch


def unwrapped(line: bytes) -> bytes | None:
    """Return a line as syslog writes it, of one in another form; ``None`` where it is in none of these."""
    begin = line.lstrip(_EMPTY)
    head = _OBJECT.match(begin)
    if head is not None:
        return _of_object(begin[head.end() :], head["stamp"] or b"")
    for form in _LINES:
        found = form.match(begin)
        stamp = None if found is None else _stamp(found)
        if found is not None and stamp is not None:
            plain: bytes = found["level"] + stamp + b" " + found["rest"]
            return None if plain == line else plain
    return None


def plain_stamp(text: bytes) -> bytes | None:
    """Return a stamp as syslog writes it, with its year as in ISO 8601; ``None`` where it is not a stamp."""
    stamps = (_stamp(found) for form in _WHOLE for found in (form.fullmatch(text),) if found is not None)
    return next((stamp for stamp in stamps if stamp is not None), None)


def _stamp(found: re.Match[bytes]) -> bytes | None:
    parts = found.groupdict()
    if parts.get("epoch"):
        return _of_number(int(parts["epoch"]), parts["fraction"] or b"")
    year, month = parts.get("year") or parts.get("late"), parts.get("month")
    if month is not None and month not in _MONTHS:
        return None
    if month is not None and year is None:
        return month + b" " + parts["day"].rjust(2) + b" " + parts["time"]
    date = parts["date"].replace(b"/", b"-") if month is None else b"%s-%02d-%s" % (year, _MONTHS[month], parts["day"].rjust(2, b"0"))
    fraction = b"." + parts["fraction"][:6].ljust(6, b"0") if parts.get("fraction") else b""
    return date + b"T" + parts["time"] + fraction + _offset(parts.get("zone") or b"")


def _offset(zone: bytes) -> bytes:
    """Return the offset of a zone; none of one that several have, or that is not known: the time is that of the host's zone then."""
    if zone[:1] not in (b"+", b"-"):
        return _ZONES.get(zone, b"")
    digits = zone[1:].replace(b":", b"").ljust(4, b"0")
    return zone[:1] + digits[:2] + b":" + digits[2:]


def _of_number(seconds: int, fraction: bytes = b"") -> bytes:
    at = datetime.fromtimestamp(seconds, UTC).isoformat()[: len("2026-11-01T10:00:00")].encode()
    return at + (b"." + fraction[:6].ljust(6, b"0") if fraction else b"") + b"+00:00"


def _of_object(text: bytes, stamp: bytes) -> bytes | None:
    """Return what an object states as a line: that of the file that it was read from, or one made of its parts."""
    try:
        stated = json.loads(text)
    except (ValueError, RecursionError):
        return None
    parts = dict(_named(stated)) if isinstance(stated, dict) else {}
    if any(name in parts for name in _OF_JOURNAL) or _is_ambiguous(parts):
        return None
    program, process = _program_of(parts)
    message = _first(parts, _TEXT if program else _LINE).strip()
    if not message or not program:
        return _bytes(message) or None
    at, host = _when(parts) or plain_stamp(stamp), next((name for name in _all(parts, _WHERE) if _is_name(name)), "")
    if at is None or not _is_program(program):
        return None
    tag = f"{program}[{process}]:" if process else f"{program}:"
    return b" ".join((at, *([_bytes(host)] if host else []), _bytes(f"{tag} {message}")))


def _named(stated: Mapping[str, Any], before: str = "") -> Iterator[tuple[str, str | int | float]]:
    """Yield the texts and numbers of an object, and of those within it, by name in small letters."""
    for name, value in stated.items():
        key = before + str(name).lower()
        if isinstance(value, str | int | float) and not isinstance(value, bool):
            yield key, value
        elif isinstance(value, dict) and not before:
            yield from _named(value, f"{key}.")


def _all(parts: Mapping[str, str | int | float], names: tuple[str, ...]) -> Iterator[str]:
    return (str(parts[name]) for name in names if parts.get(name, "") not in ("", "-"))


def _first(parts: Mapping[str, str | int | float], names: tuple[str, ...]) -> str:
    return next(_all(parts, names), "")


def _program_of(parts: Mapping[str, str | int | float]) -> tuple[str, str]:
    """Return a program and its process ID, both of which a tag can hold."""
    program, process = _first(parts, _PROGRAM).rpartition("/")[2], _first(parts, _PROCESS)
    tag = _TAGGED.match(_first(parts, _TAG)) if not program else None
    if tag is not None:
        program, process = tag[1], tag[2] or process
    return program, process if process.isdecimal() else ""


def _is_ambiguous(parts: Mapping[str, str | int | float]) -> bool:
    """Return whether a text is a whole line beside a tag that can be its program's, as anyone can choose it, or that of the log."""
    tag = "" if _first(parts, _PROGRAM) else _first(parts, _TAG)
    return tag != "" and not tag.endswith(":") and any(form.match(_bytes(_first(parts, _LINE))) for form in _LINES)


def _when(parts: Mapping[str, str | int | float]) -> bytes | None:
    for name in _WHEN:
        value = parts.get(name)
        if isinstance(value, str) and value.isdecimal() and len(value) < 20:
            value = int(value)
        if isinstance(value, int | float):
            return _of_seconds(value)
        stamp = plain_stamp(_bytes(value)) if value else None
        if stamp is not None:
            return stamp
    return None


def _of_seconds(number: float) -> bytes | None:
    """Return the stamp of a number: seconds since 1970, or as many thousandths, millionths and so on as it can be alone."""
    unit = next((unit for least, unit in _UNITS if number >= least), 1)
    try:
        seconds, part = divmod(number, unit)
        return _of_number(int(seconds), b"%06d" % int((part / unit if unit > 1 else seconds % 1) * 10**6))
    except (ValueError, OverflowError, OSError):
        return None


def _bytes(text: str) -> bytes:
    """Return a text in one line: its line breaks are written as syslog does."""
    return text.replace("\n", "#012").replace("\r", "#015").encode("utf-8", "surrogatepass")
