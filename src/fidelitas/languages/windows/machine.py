"""What the collector for Windows tells, as rows in JSON and texts of Windows' own tools, and the text of ``net localgroup`` by itself.

Knows the columns of the collector's listings; not what a right amounts to.  Who is who is told by SID.
"""

import re
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from functools import partial

from fidelitas.errors import ReadError
from fidelitas.facts import (
    Gap,
    LocalAccount,
    LocalGroup,
    LocalMember,
    MembershipChange,
    Place,
    SecuredPath,
    SecurityDescriptor,
    UserRight,
    WindowsFacts,
    WindowsJob,
    WindowsJobKind,
    WindowsSession,
)
from fidelitas.languages.evidence import HostEvidence
from fidelitas.languages.logs.windows_events import SecurityRecord, security_records
from fidelitas.languages.rows import Row, RowReader, text_of
from fidelitas.languages.security_descriptors import read_descriptor
from fidelitas.languages.windows.code_pages import decoded, decoded_as
from fidelitas.languages.windows.tool_output import ADMINISTRATORS, read_group_text, read_user_rights

__all__ = ["GROUP_TEXT", "read_windows"]

# The listing that the text of net localgroup is, where a file of it was handed in.
GROUP_TEXT = "group"
_ADMINISTRATORS = "S-1-5-32-544"
_MEMBERSHIP = {4732: True, 4733: False}


def read_windows(evidence: HostEvidence) -> WindowsFacts:
    """Return what the evidence of a Windows machine states."""
    return _Machine(evidence, "row of the collector").facts()


class _Machine(RowReader):
    def facts(self) -> WindowsFacts:
        computer = next((row for row, _ in self.rows("computer")), {})
        accounts = self.all("local-accounts", _account)
        return WindowsFacts(
            subject=self.evidence.subject,
            taken=self.evidence.taken,
            system=str(computer.get("system", "")),
            computer=str(computer.get("name", "")),
            domain=str(computer.get("domain", "")),
            sid=next((account.sid.rpartition("-")[0] for account in accounts if account.sid.startswith("S-1-5-21-")), ""),
            controller=computer.get("controller") is True,
            elevated=computer.get("elevated") if isinstance(computer.get("elevated"), bool) else None,
            groups=(*self._groups(), *self._group_text()),
            accounts=accounts,
            user_rights=tuple(self._user_rights()),
            jobs=(
                *self.all("services", partial(self._job, WindowsJobKind.SERVICE)),
                *self.all("tasks", partial(self._job, WindowsJobKind.TASK)),
            ),
            paths=self.all("access", self._path),
            settings=dict(self.all("settings", _setting)),
            sessions=self.all("sessions", _session),
            changes=tuple(self._changes()),
            gaps=self.gaps,
        )

    def _groups(self) -> tuple[LocalGroup, ...]:
        members: dict[str, list[LocalMember]] = {}
        for group, member in self.all("local-members", _member):
            members.setdefault(group, []).append(member)
        return self.all("local-groups", lambda row, place: _group(row, members.get(str(row.get("sid")), ()), place))

    def _group_text(self) -> Iterator[LocalGroup]:
        """A group of which only the text of a tool is there: whether it is the administrators' is guessed by its name, and said."""
        content = self.evidence.listings.get(GROUP_TEXT)
        if content is None:
            return
        text, guessed = decoded_as(content)
        read = read_group_text(text, Place(self.evidence.subject, GROUP_TEXT))
        group, language = read.group, ADMINISTRATORS.get(read.group.name.lower())
        taken_for = f"taken for the administrators by its name in {language}" if language else "not known whether it is the administrators'"
        tool = "net group" if read.of_domain else "net localgroup"
        why = f'the text of "{tool}" has names and no SIDs: group {group.name} is {taken_for}'
        why += f"; its code page is not stated: read as {guessed}" if guessed else ""
        self._gaps.append(Gap(what="local groups", why=why, weakens="who is an administrator, and every other right", place=group.place))
        if not read.whole:
            why = "the text ends before its last line, which says that all members are listed"
            self._gaps.append(Gap(what=f"members of {group.name}", why=why, weakens="who else is in the group", place=group.place))
        yield LocalGroup(name=group.name, sid=_ADMINISTRATORS if language else None, members=group.members, place=group.place)

    def _user_rights(self) -> Iterator[UserRight]:
        content = self.evidence.listings.get("user-rights")
        return iter(()) if content is None else read_user_rights(decoded(content), Place(self.evidence.subject, "user-rights"))

    def _descriptor(self, row: Row, place: Place, name: str) -> SecurityDescriptor | None:
        stated = row.get("sddl")
        if not isinstance(stated, str) or not stated:
            return None
        found = read_descriptor(stated)
        if found is None:
            self.missing("its access control list could not be read", f"who may change {name}", place, name)
        return found

    def _job(self, kind: WindowsJobKind, row: Row, place: Place) -> WindowsJob:
        name = text_of(row, "name")
        return WindowsJob(
            kind=kind,
            name=name,
            account=str(row.get("account") or ""),
            sid=str(row.get("sid") or ""),
            command=str(row.get("command") or ""),
            enabled=bool(row.get("enabled", True)),
            access=self._descriptor(row, place, f"{kind} {name}"),
            further_commands=tuple(_quoted(row, "library") + _quoted(row, "failure_command", as_path=False)),
            keys=tuple(self._keys(row, place)),
            highest=str(row.get("run_level") or "").lower() == "highest",
            place=place,
        )

    def _keys(self, row: Row, place: Place) -> Iterator[SecuredPath]:
        """Yield the registry keys of a service with who may change them."""
        stated = row.get("keys")
        for key in stated if isinstance(stated, list) else ():
            if isinstance(key, dict) and isinstance(key.get("path"), str):
                access = self._descriptor(key, place, str(key["path"]))
                yield SecuredPath(path=str(key["path"]), exists=True, folder=True, access=access, place=place)

    def _path(self, row: Row, place: Place) -> SecuredPath:
        path = text_of(row, "path")
        return SecuredPath(
            path=path,
            exists=bool(row.get("exists")),
            folder=bool(row.get("folder")),
            access=self._descriptor(row, place, path),
            place=place,
        )

    def _changes(self) -> Iterator[MembershipChange]:
        logs = getattr(self.evidence, "logs", None)
        for log in logs() if logs else ():
            origin = Place(self.evidence.subject, log.path)
            try:
                for record in security_records(log.blocks(), origin, self._gaps, _MEMBERSHIP):
                    if record.at is not None:
                        yield _change(record, record.at, origin)
            except ReadError as error:  # a damaged log: what was read of it before counts, and so does everything else
                self._gaps.append(Gap(what="security log", why=str(error), weakens="which memberships changed, and when", place=origin))


def _quoted(row: Row, name: str, *, as_path: bool = True) -> list[str]:
    """Return a column that names a file as a command line of it, or one that is a command line; none where it is empty."""
    value = row.get(name)
    if not isinstance(value, str) or not value.strip():
        return []
    return [f'"{value.strip()}"' if as_path else value.strip()]


def _change(record: SecurityRecord, at: datetime, origin: Place) -> MembershipChange:
    data, place = record.data, origin.at(record.line)
    return MembershipChange(
        at=at,
        group=data.get("TargetSid", ""),
        member=data.get("MemberSid", ""),
        added=_MEMBERSHIP[record.number],
        by=data.get("SubjectUserName", ""),
        place=place,
    )


def _flag(row: Row, name: str) -> bool | None:
    value = row.get(name)
    return value if isinstance(value, bool) else None


def _time(row: Row, name: str) -> datetime | None:
    text = row.get(name)
    if not isinstance(text, str) or not re.match(r"\d{4}-\d\d-\d\dT", text):
        return None
    at = datetime.fromisoformat(text)
    return at.replace(tzinfo=UTC) if at.tzinfo is None else at.astimezone(UTC)


def _account(row: Row, place: Place) -> LocalAccount:
    return LocalAccount(
        name=text_of(row, "name"),
        sid=text_of(row, "sid"),
        disabled=_flag(row, "disabled"),
        locked=_flag(row, "locked"),
        password_required=_flag(row, "password_required"),
        password_never_expires=_flag(row, "password_never_expires"),
        expires=_time(row, "expires"),
        last_logon=_time(row, "last_log_on"),
        description=str(row.get("description") or "") or None,
        place=place,
    )


def _group(row: Row, members: Iterable[LocalMember], place: Place) -> LocalGroup:
    return LocalGroup(name=text_of(row, "name"), sid=text_of(row, "sid"), members=tuple(members), place=place)


def _member(row: Row, place: Place) -> tuple[str, LocalMember]:
    kind = row.get("kind")
    group = None if kind not in ("group", "user") else kind == "group"
    return text_of(row, "group_sid"), LocalMember(
        sid=text_of(row, "sid") or None, name=str(row.get("name") or "") or None, group=group, place=place
    )


def _setting(row: Row, place: Place) -> tuple[str, tuple[str, Place]]:
    return f"{text_of(row, 'key')}\\{text_of(row, 'name')}".lower(), (str(row.get("value", "")), place)


def _session(row: Row, place: Place) -> WindowsSession:
    kind = row.get("kind")
    return WindowsSession(
        account=text_of(row, "account"),
        sid=str(row.get("sid") or ""),
        kind=kind if isinstance(kind, int) else 0,
        since=_time(row, "since"),
        place=place,
    )
