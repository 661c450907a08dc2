"""The security log of Windows as XML, an ``Event`` element each: what ``wevtutil qe Security /f:xml`` prints, and what an .evtx file holds.

Follows the event schema (Win32 documentation, "Event Schema") and "Appendix L: Events to Monitor".  Accounts and groups are told by their
SID where the event has no name for them.  Text is taken as it stands: a document type, which could define entities, is refused.
"""

import re
from collections.abc import Callable, Container, Iterable, Iterator, Mapping
from datetime import UTC, datetime
from typing import ClassVar, NamedTuple, TypeVar
from xml.etree import ElementTree as ET

from fidelitas.facts import Change, Event, EventKind, Gap, Place
from fidelitas.languages.logs.windows_changes import OF_ACCOUNTS, OF_GROUPS, OF_MEMBERS, OF_POLICIES, OF_TASKS, what_changed
from fidelitas.masking import masked
from fidelitas.text import clipped, decode, escape_control

__all__ = ["SecurityRecord", "WindowsEventReader", "is_event_xml", "security_records"]

T = TypeVar("T")

_END = b"</Event>"
_NUMBER = re.compile(rb"<EventID(?:\s[^>]*)?>\s*(\d{1,9})\s*</EventID>")
_LOGON, _SPECIAL, _PROCESS, _SERVICE, _ACCESS_GIVEN = 4624, 4672, 4688, 4697, 4717
# Events that state what was changed, field by field.
_WITH_CHANGES = frozenset({4735, 4737, 4738, 4742, 4755, 4764, 4765, 4766})
_BEGINS = re.compile(rb"(?:\xef\xbb\xbf)?\s*(?:<\?xml[^>]*>\s*)?(?:<Events[^>]*>\s*)?<Event[\s>]")
# An event with a task's whole definition in it has some tens of kilobytes.
_LARGEST = 1 << 20
_SYSTEM_ACCOUNTS = ("S-1-5-18", "S-1-5-19", "S-1-5-20", "S-1-5-7", "S-1-5-90-", "S-1-5-96-")
_KINDS = {
    "2": "at the console", "3": "over the network", "7": "unlocked", "8": "over the network, password in clear", "10": "remote desktop",
    "11": "at the console, domain out of reach",
}  # fmt: skip
_FAILURES = {
    "0xc000006a": "wrong password", "0xc0000064": "no such account", "0xc0000234": "the account is locked",
    "0xc0000072": "the account is disabled", "0xc0000193": "the account has expired", "0xc0000071": "the password has expired",
    "0xc000015b": "not allowed to log on this way", "0xc000006f": "outside the hours of the account", "0xc0000070": "not from this machine",
}  # fmt: skip
# No such account, or either name or password is wrong.
_OF_NAMES = ("0xc0000064", "0xc000006d")
_CHANGES = {
    **dict.fromkeys((4720, 4741), Change.ACCOUNT_CREATED), **dict.fromkeys((4726, 4743), Change.ACCOUNT_DELETED),
    **dict.fromkeys((4728, 4732, 4756), Change.MEMBER_ADDED),
    **dict.fromkeys((4729, 4733, 4757), Change.MEMBER_REMOVED), **dict.fromkeys((4719, 1102), Change.AUDIT),
}  # fmt: skip
# Sorts of tokens of a process: full, since consent was given; and the only one that its account has, which is full for an administrator who
# is not asked (the built-in one, or where User Account Control is off).
_ELEVATED, _UNDIVIDED = "%%1937", "%%1936"
# Levels that only a full token has, where the event states the level.
_FULL_LEVELS = ("S-1-16-12288", "S-1-16-16384")
# Ways of logging on by which someone who is logged on becomes another: runas, and the same for connections alone.
_FROM_SESSIONS = ("2", "9", "11")
# Sessions of a log that are kept in mind.
_MOST_SESSIONS = 20_000


class SecurityRecord(NamedTuple):
    """One event as it stands: its number, time and machine, what it tells by name, and where it begins."""

    number: int
    at: datetime | None
    computer: str
    data: Mapping[str, str]
    line: int


def is_event_xml(start: bytes) -> bool:
    """Return whether a log that begins so holds events as XML."""
    return _BEGINS.match(start) is not None


def security_records(blocks: Iterable[bytes], origin: Place, gaps: list[Gap], wanted: Container[int]) -> Iterator[SecurityRecord]:
    """Yield the events of some numbers in blocks of whole lines; one that cannot be read is a gap and costs only itself."""
    held, line = b"", 1
    for block in blocks:
        held += block
        done = 0
        while (end := held.find(_END, done)) >= 0:
            start = max(held.rfind(b"<Event ", done, end), held.rfind(b"<Event>", done, end))
            if start >= 0:
                text = held[start : end + len(_END)]
                record = _record(text, line + held.count(b"\n", done, start), origin, gaps) if _is_wanted(text, wanted) else None
                if record is not None:
                    yield record
            line += held.count(b"\n", done, end)
            done = end + len(_END)
        held = held[done:]
        if len(held) > _LARGEST:
            gaps.append(_gap("an event is longer than 1 MiB", origin.at(line)))
            line, held = line + held.count(b"\n"), b""
    if b"<Event" in held:
        gaps.append(_gap("the log ends within an event", origin.at(line)))


def _is_wanted(text: bytes, wanted: Container[int]) -> bool:
    """Return whether an event is worth parsing: most are of other numbers, or processes that are not elevated."""
    found = _NUMBER.search(text)
    if found is None or b"<![CDATA[" in text or b"<!" in text:
        return True  # whatever is odd about it is told
    number = int(found[1])
    return number in wanted and (number != _PROCESS or _may_be_elevated(text))


def _may_be_elevated(text: bytes) -> bool:
    """Return whether a process can have a full token: an event that states its level says so, others by their session."""
    if _ELEVATED.encode() in text:
        return True
    return _UNDIVIDED.encode() in text and (b"MandatoryLabel" not in text or any(level.encode() in text for level in _FULL_LEVELS))


def _gap(why: str, place: Place) -> Gap:
    return Gap(what="event of the security log", why=why, weakens="its content is not known", place=place)


def _record(text: bytes, line: int, origin: Place, gaps: list[Gap]) -> SecurityRecord | None:
    if b"<!" in text.replace(b"<![CDATA[", b""):
        gaps.append(_gap("it has a document type, which no event has", origin.at(line)))
        return None
    try:
        parts = {_local(part): part for part in ET.fromstring(_without_controls(text))}  # noqa: S314 no entities of its own
        system = {_local(one): one for one in parts.get("System", ())}
        number = int(system["EventID"].text or "")
    except (ET.ParseError, ValueError, KeyError, UnicodeError) as error:
        gaps.append(_gap(f"not an event in XML: {clipped(escape_control(str(error)), 80)}", origin.at(line)))
        return None
    if "Channel" in system and system["Channel"].text != "Security":
        return None  # other logs use the same numbers for other things
    data = {one.get("Name", ""): "".join(one.itertext()).strip() for one in parts.get("EventData", ())}
    data |= {_local(one): "".join(one.itertext()).strip() for whole in parts.get("UserData", ()) for one in whole}
    created = system.get("TimeCreated")
    computer = system["Computer"].text if "Computer" in system else ""
    return SecurityRecord(number, _time(created.get("SystemTime", "") if created is not None else ""), computer or "", data, line)


def _local(element: "ET.Element") -> str:
    return element.tag.rpartition("}")[2]


def _without_controls(text: bytes) -> str:
    return re.sub("[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff\ud800-\udfff]", "�", decode(text))


def _time(text: str) -> datetime | None:
    found = re.match(r"(\d{4}-\d\d-\d\d)[T ](\d\d:\d\d:\d\d)(\.\d{1,6})?\d*\s*(?:Z|UTC)?\Z", text)
    try:
        return datetime.fromisoformat(f"{found[1]}T{found[2]}{found[3] or ''}").replace(tzinfo=UTC) if found else None
    except ValueError:
        return None


class WindowsEventReader:
    """Reads one log; `sids` are the names of accounts and groups."""

    def __init__(self, origin: Place, sids: Mapping[str, str] | None = None) -> None:
        self._origin = origin
        self._sids = dict(sids or {})
        self._learned: dict[str, str] = {}  # names of SIDs that the log itself states
        self._begun_by: dict[tuple[str, str], str] = {}  # who opened a session as someone else, by machine and session
        self._full: dict[tuple[str, str], bool] = {}  # sessions with an administrator's privileges
        self.gaps: list[Gap] = []

    def events(self, blocks: Iterable[bytes]) -> Iterator[Event]:
        """Yield what the log tells of privilege."""
        for record in security_records(blocks, self._origin, self.gaps, self._readers):
            event = self._event(record)
            if event is not None:
                yield event

    def _event(self, record: SecurityRecord) -> Event | None:
        self._learn(record)
        reader = self._readers.get(record.number)
        return None if reader is None else reader(self, record)

    def _learn(self, record: SecurityRecord) -> None:
        """Note what the log states of names and sessions, for events that come later."""
        data = record.data
        for whose in ("Subject", "Target", "Member"):
            sid, name = data.get(f"{whose}UserSid") or data.get(f"{whose}Sid", ""), data.get(f"{whose}UserName", "")
            if sid.startswith("S-1-5-21-") and name not in ("", "-") and len(self._learned) < _MOST_SESSIONS:
                self._learned.setdefault(sid, name)
        if record.number == _LOGON:
            self._begin_session(record, (record.computer, data.get("TargetLogonId", "")))
        if record.number == _SPECIAL:
            _keep(self._full, (record.computer, data.get("SubjectLogonId", "")), True)

    def _begin_session(self, record: SecurityRecord, session: tuple[str, str]) -> None:
        """Note by whom a session is opened as someone else; nothing is left of one that had its number before: a start begins anew."""
        self._begun_by.pop(session, None)
        self._full.pop(session, None)
        if record.data.get("LogonType") in _FROM_SESSIONS and not _of_system(record, "Subject"):
            before = self._person_of(record, record.data.get("SubjectLogonId", "")) or self._name(record, "Subject")
            if before not in ("", "-", self._name(record, "Target")) and session[1]:
                _keep(self._begun_by, session, before)

    def _person_of(self, record: SecurityRecord, session: str) -> str:
        """Return who opened a session as someone else; nothing where it was opened by its own account."""
        return self._begun_by.get((record.computer, session), "")

    def _make(self, record: SecurityRecord, kind: EventKind, program: str, **fields: str) -> Event:
        number = record.data.get("TargetLogonId" if kind in (EventKind.CLOSED, EventKind.LOGIN) else "SubjectLogonId", "")
        fields.setdefault("login", self._person_of(record, number))
        return Event(
            at=record.at,
            place=self._origin.at(record.line),
            pid=int(number, 16) if re.fullmatch(r"0x[0-9a-fA-F]{1,16}", number) else None,  # the session, which its events share
            kind=kind,
            program=program,
            host=record.computer,
            **fields,  # type: ignore[arg-type]
        )

    def _name(self, record: SecurityRecord, whose: str) -> str:
        """Return the account or group of the event: ``Subject``, ``Target`` or ``Member``."""
        data = record.data
        name, sid = data.get(f"{whose}UserName") or data.get(f"{whose}Name", ""), data.get(f"{whose}UserSid") or data.get(f"{whose}Sid", "")
        if name in ("", "-"):
            return self._sids.get(sid) or self._learned.get(sid, sid)
        common = re.match(r"CN=((?:[^,\\]|\\.)+),", name, re.IGNORECASE)
        return self._sids.get(sid) or (re.sub(r"\\(.)", r"\1", common[1]) if common else name)

    def _changed(self, record: SecurityRecord, **fields: str) -> Event:
        event = self._make(record, EventKind.CHANGED, fields.pop("program", "accounts"), account=self._name(record, "Subject"), **fields)
        return event._replace(change=_CHANGES.get(record.number))

    def _account(self, record: SecurityRecord) -> Event:
        reason, data = OF_ACCOUNTS[record.number], record.data
        if record.number == 4781:
            return self._changed(
                record, target=data.get("OldTargetUserName", ""), reason=f"{reason} to {data.get('NewTargetUserName', '')}"
            )
        more = what_changed(data) if record.number in _WITH_CHANGES else ""
        return self._changed(record, target=self._name(record, "Target"), reason=f"{reason}: {more}" if more else reason)

    def _group(self, record: SecurityRecord) -> Event:
        more, reason = what_changed(record.data) if record.number in _WITH_CHANGES else "", OF_GROUPS[record.number]
        return self._changed(record, group=self._name(record, "Target"), reason=f"{reason}: {more}" if more else reason)

    def _policy(self, record: SecurityRecord) -> Event:
        domain, reason = record.data.get("DomainName", ""), OF_POLICIES[record.number]
        more = what_changed({name: value for name, value in record.data.items() if not name.startswith("Domain")})
        return self._changed(record, program="policy", target=domain, reason=f"{reason}: {more}" if more else reason)

    def _system_access(self, record: SecurityRecord) -> Event:
        """A right to log on in some way was given to an account or taken from it."""
        what = "given" if record.number == _ACCESS_GIVEN else "taken away"
        right = record.data.get("AccessGranted") or record.data.get("AccessRemoved", "")
        return self._changed(record, program="policy", target=self._name(record, "Target"), reason=f"user right {what}: {right}")

    def _membership(self, record: SecurityRecord) -> Event:
        target, group = self._name(record, "Member"), self._name(record, "Target")
        return self._changed(record, target=target, group=group, reason=OF_MEMBERS[record.number])

    def _logon(self, record: SecurityRecord) -> Event | None:
        kind = record.data.get("LogonType", "")
        if _of_system(record, "Target") or kind not in _KINDS:
            return None
        fields = {"target": self._name(record, "Target"), "address": _address(record)}
        if record.number == 4625:
            status = record.data.get("SubStatus", "")
            code = (record.data.get("Status", "") if status in ("", "0x0") else status).lower()
            failed = self._make(record, EventKind.LOGIN_FAILED, "logon", reason=_FAILURES.get(code, code), **fields)
            return failed._replace(typed=code in _OF_NAMES)
        return self._make(record, EventKind.LOGIN, "logon", reason=_KINDS[kind], **fields)

    def _log_off(self, record: SecurityRecord) -> Event | None:
        if _of_system(record, "Target"):
            return None
        return self._make(record, EventKind.CLOSED, "logon", target="administrator", account=self._name(record, "Target"))

    def _special(self, record: SecurityRecord) -> Event | None:
        """Special privileges were assigned to a new log-on: an administrator's session begins."""
        if _of_system(record, "Subject"):
            return None
        account, privileges = self._name(record, "Subject"), " ".join(record.data.get("PrivilegeList", "").split())
        fields = {"account": account, "target": "administrator", "reason": privileges}
        return self._make(record, EventKind.USED, "logon", **fields)

    def _other_account(self, record: SecurityRecord) -> Event | None:
        """A log-on was tried with credentials that were given: runas, a task, a connection as someone else."""
        if _of_system(record, "Subject"):
            return None
        fields = {"account": self._name(record, "Subject"), "target": self._name(record, "Target"), "address": _address(record)}
        return self._make(record, EventKind.USED, "runas", command=record.data.get("ProcessName", ""), **fields)

    def _process(self, record: SecurityRecord) -> Event | None:
        if not self._is_elevated(record) or _of_system(record, "Subject"):
            return None
        command = masked(_command(record.data.get("NewProcessName", ""), record.data.get("CommandLine", "")))
        fields = {"account": self._name(record, "Subject"), "target": "administrator", "command": command}
        return self._make(record, EventKind.USED, "elevation", **fields)

    def _is_elevated(self, record: SecurityRecord) -> bool:
        """Return whether a process has the full token of an administrator."""
        data = record.data
        if data.get("TokenElevationType") != _UNDIVIDED:
            return data.get("TokenElevationType") == _ELEVATED
        if "MandatoryLabel" in data:
            return data["MandatoryLabel"] in _FULL_LEVELS
        return data.get("SubjectUserSid", "").endswith("-500") or (record.computer, data.get("SubjectLogonId", "")) in self._full

    def _right(self, record: SecurityRecord) -> Event:
        what = "given" if record.number == 4704 else "taken away"
        rights = " ".join(record.data.get("PrivilegeList", "").split())
        return self._changed(record, program="policy", target=self._name(record, "Target"), reason=f"user right {what}: {rights}")

    def _installed(self, record: SecurityRecord) -> Event:
        name = record.data.get("ServiceName") or record.data.get("TaskName", "")
        what = f"service {name} installed" if record.number == _SERVICE else f"task {name} {OF_TASKS[record.number]}"
        return self._changed(record, program="system", command=masked(record.data.get("ServiceFileName", "")), reason=what)

    def _audit(self, record: SecurityRecord) -> Event:
        what = "log cleared" if record.number == 1102 else "policy changed"
        return self._changed(record, program="audit", reason=f"audit: {what}")

    _readers: ClassVar[Mapping[int, Callable[["WindowsEventReader", SecurityRecord], Event | None]]] = {
        **dict.fromkeys(OF_ACCOUNTS, _account), **dict.fromkeys(OF_GROUPS, _group), **dict.fromkeys(OF_MEMBERS, _membership),
        4624: _logon, 4625: _logon, 4634: _log_off, 4647: _log_off, 4648: _other_account, 4672: _special, 4688: _process,
        **dict.fromkeys(OF_TASKS, _installed), **dict.fromkeys(OF_POLICIES, _policy), 4717: _system_access, 4718: _system_access,
        4697: _installed, 4704: _right, 4705: _right, 4719: _audit, 1102: _audit,
    }  # fmt: skip


def _keep(known: dict[tuple[str, str], T], session: tuple[str, str], value: T) -> None:
    """Note something of a session; where there are many, the first that was noted is forgotten."""
    known[session] = value
    if len(known) > _MOST_SESSIONS:
        del known[next(iter(known))]


def _of_system(record: SecurityRecord, whose: str) -> bool:
    """Return whether an account is the system itself, a machine's, or one of window management."""
    sid, name = record.data.get(f"{whose}UserSid", ""), record.data.get(f"{whose}UserName", "")
    return _is_machine(record, whose, name) or any(sid == one or (one.endswith("-") and sid.startswith(one)) for one in _SYSTEM_ACCOUNTS)


def _is_machine(record: SecurityRecord, whose: str, name: str) -> bool:
    """Return whether a name with a dollar sign is a machine's: an account of this machine can be called so, too, and is someone."""
    if not name.endswith("$"):
        return False
    here, domain = record.computer.partition(".")[0].casefold(), record.data.get(f"{whose}DomainName", "").casefold()
    return not here or domain != here or name.rstrip("$").casefold() == here


def _command(program: str, line: str) -> str:
    """Return the program by its whole path, in quotes where it has blanks, and what it was given."""
    quoted = re.match(r'"[^"]*"\s*', line)
    given = line[len(quoted[0]) :] if quoted else line.partition(" ")[2]
    shown = f'"{program}"' if " " in program else program
    return f"{shown} {given}".strip() if program else line


def _address(record: SecurityRecord) -> str:
    address = record.data.get("IpAddress", "")
    return "" if address in ("-", "::1", "127.0.0.1") else address.removeprefix("::ffff:")
