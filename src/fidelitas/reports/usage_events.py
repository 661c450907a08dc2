"""The use of privilege as events of OCSF: commands as process activity, log-ins as authentication, changes of accounts and groups.

What OCSF has no attribute for, such as how surely a person stood behind an event, is in ``unmapped``.
"""

from collections.abc import Mapping
from ipaddress import ip_address
from typing import Any

from fidelitas.facts import Change, Event, EventKind
from fidelitas.findings import Severity
from fidelitas.reports.open_events import Activity, event, line
from fidelitas.reports.usage import event_words, record_document
from fidelitas.usage import AttributedEvent

__all__ = ["event_line"]

_LAUNCH = Activity(1007, "Process Activity", 1, "Launch")
_LOG_CHANGED = Activity(1008, "Event Log Activity", 99, "Other")
_LOGON = Activity(3002, "Authentication", 1, "Logon")
_LOGOFF = Activity(3002, "Authentication", 2, "Logoff")
_CHANGES: Mapping[Change | None, Activity] = {
    Change.MEMBER_ADDED: Activity(3006, "Group Management", 3, "Add User"),
    Change.MEMBER_REMOVED: Activity(3006, "Group Management", 4, "Remove User"),
    Change.MEMBERS_SET: Activity(3006, "Group Management", 99, "Other"),
    Change.ACCOUNT_CREATED: Activity(3001, "Account Change", 1, "Create"),
    Change.ACCOUNT_DELETED: Activity(3001, "Account Change", 6, "Delete"),
    Change.AUDIT: _LOG_CHANGED,
    None: Activity(3001, "Account Change", 99, "Other"),
}
_ACTIVITIES = {
    EventKind.USED: _LAUNCH,
    EventKind.REFUSED: _LAUNCH,
    EventKind.FAILED: _LOGON,
    EventKind.OPENED: _LOGON,
    EventKind.CLOSED: _LOGOFF,
    EventKind.LOGIN: _LOGON,
    EventKind.LOGIN_FAILED: _LOGON,
}
_SEVERITIES = {EventKind.REFUSED: Severity.LOW, EventKind.FAILED: Severity.LOW, EventKind.LOGIN_FAILED: Severity.LOW}
_FAILURES = frozenset({EventKind.REFUSED, EventKind.FAILED, EventKind.LOGIN_FAILED})
_LOGINS = frozenset({EventKind.LOGIN, EventKind.LOGIN_FAILED})
_NOT_MAPPED = ("persons", "basis", "confidence", "doubt", "folder", "terminal", "recording", "within_session", "place")


def event_line(record: AttributedEvent) -> str:
    """Return an event, with the person behind it, as a line of JSON."""
    one = record.event
    activity = _CHANGES[one.change] if one.kind is EventKind.CHANGED else _ACTIVITIES[one.kind]
    failed = one.kind in _FAILURES
    document = record_document(record)
    stated = {
        "status_id": 2 if failed else 1,
        "status": "Failure" if failed else "Success",
        "status_detail": one.reason,
        "count": one.times,
        "actor": {"user": _user(record.person or one.account), "process": {"name": one.program, "pid": one.pid}},
        "unmapped": {name: document[name] for name in _NOT_MAPPED},
        **_object(activity, one),
    }
    at = one.at.timestamp() if one.at is not None else None
    severity = Severity.MEDIUM if one.doubt else _SEVERITIES.get(one.kind, Severity.INFO)
    return line(event(activity, severity, at, one.host or one.place.subject, event_words(one), stated))


def _object(activity: Activity, one: Event) -> dict[str, Any]:
    """Return what an event is about, by its class."""
    source = {"src_endpoint": _endpoint(one.address)} if one.address else {}
    match activity.class_uid:
        case 1007:
            return {"process": {"cmd_line": one.command or one.program, "user": _user(one.target or "root")}}
        case 3006:
            return {"group": {"name": one.group or one.target or "(not stated)"}, "user": _user(one.target), **source}
        case 3001:
            return {"user": _user(one.target or one.account or "(not stated)"), **source}
        case 3002:
            named = one.target if one.kind in _LOGINS else one.target or one.account
            return {"user": _user(named or one.account or "(not stated)"), "service": {"name": one.program}, **source}
    return {"log_name": one.target or one.program, **source}


def _user(name: str) -> dict[str, Any] | None:
    return {"name": name} if name else None


def _endpoint(address: str) -> dict[str, Any]:
    """Return where something came from: an address, or the name of a host."""
    try:
        return {"ip": str(ip_address(address))}
    except ValueError:
        return {"hostname": address}
