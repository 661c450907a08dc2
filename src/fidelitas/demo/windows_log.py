"""The security log of a made-up Windows machine: event XML, an event a line, in the order of time."""

from datetime import datetime
from xml.sax.saxutils import escape, quoteattr

__all__ = ["SecurityLog"]

_SCHEMA = "http://schemas.microsoft.com/win/2004/08/events/event"
_ADMINISTRATOR = "SeSecurityPrivilege&#10;\t\t\tSeTakeOwnershipPrivilege&#10;\t\t\tSeDebugPrivilege"


class SecurityLog:
    """Events under construction."""

    def __init__(self, computer: str) -> None:
        self._computer = computer
        self._events: list[tuple[datetime, int, dict[str, str]]] = []

    def logon(self, at: datetime, name: str, sid: str, session: int, *, kind: int, elevated: bool = False) -> None:
        """Add a log-on, and with `elevated` that it has an administrator's privileges."""
        target = {"TargetUserSid": sid, "TargetUserName": name, "TargetDomainName": "SALTMARSH", "TargetLogonId": hex(session)}
        self._events.append((at, 4624, {**target, "LogonType": str(kind), "IpAddress": "10.20.3.15" if kind == 10 else "-"}))
        if elevated:
            self._events.append((at, 4672, {**_subject(name, sid, session), "PrivilegeList": _ADMINISTRATOR}))

    def log_off(self, at: datetime, name: str, sid: str, session: int) -> None:
        """Add the end of a session."""
        self._events.append((at, 4634, {"TargetUserSid": sid, "TargetUserName": name, "TargetLogonId": hex(session), "LogonType": "2"}))

    def process(self, at: datetime, name: str, sid: str, session: int, command: str) -> None:
        """Add a process that was started elevated."""
        told = {"NewProcessName": command, "TokenElevationType": "%%1937", "CommandLine": f'"{command}"'}
        self._events.append((at, 4688, {**_subject(name, sid, session), **told}))

    def member(self, at: datetime, number: int, by: str, sid: str, group: str, group_sid: str) -> None:
        """Add a change of a local group, which names the member by SID alone."""
        told = {"MemberName": "-", "MemberSid": sid, "TargetUserName": group, "TargetDomainName": "Builtin", "TargetSid": group_sid}
        self._events.append((at, number, {**told, **_subject(by, "S-1-5-21-0-0-0-0", 0)}))

    @property
    def begins(self) -> str:
        """When the first event was."""
        return f"{min(at for at, _, _ in self._events):%Y-%m-%dT%H:%M:%SZ}"

    @property
    def ends(self) -> str:
        """When the last event was."""
        return f"{max(at for at, _, _ in self._events):%Y-%m-%dT%H:%M:%SZ}"

    def lines(self) -> list[str]:
        """Return the events by time, each in a line."""
        ordered = sorted(self._events, key=lambda event: event[0])
        return [self._line(number, *event) for number, event in enumerate(ordered, 1)]

    def _line(self, record: int, at: datetime, number: int, data: dict[str, str]) -> str:
        fields = "".join(
            f"<Data Name={quoteattr(name)}>{escape(value).replace('&amp;#10;', '&#10;')}</Data>" for name, value in data.items()
        )
        system = (
            f'<Provider Name="Microsoft-Windows-Security-Auditing"/><EventID>{number}</EventID>'
            f'<TimeCreated SystemTime="{at:%Y-%m-%dT%H:%M:%S}.0000000Z"/><EventRecordID>{record}</EventRecordID>'
            f"<Channel>Security</Channel><Computer>{self._computer}</Computer>"
        )
        return f"<Event xmlns='{_SCHEMA}'><System>{system}</System><EventData>{fields}</EventData></Event>"


def _subject(name: str, sid: str, session: int) -> dict[str, str]:
    return {"SubjectUserSid": sid, "SubjectUserName": name, "SubjectDomainName": "SALTMARSH", "SubjectLogonId": hex(session)}
