"""Who is logged in or connected, as of the evidence: sessions on hosts and Windows machines, connections to databases."""

from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import datetime
from typing import Any

from msgspec import Struct

from fidelitas.rights import DatabaseRights, HostRights, MariadbRights, SubjectRights, WindowsRights

__all__ = ["Connection", "connections"]


class Connection(Struct, frozen=True, kw_only=True):
    """One session: whose, on what, from where, since when; `right` is the furthest that the account has there."""

    subject: str
    account: str
    what: str
    origin: str | None
    since: datetime | None
    right: str | None


def connections(subjects: Iterable[SubjectRights]) -> list[Connection]:
    """Return the sessions that were open on some subjects when their evidence was taken, those with elevated rights first."""
    found = [session for one in subjects for session in _SESSIONS.get(one.platform, _none)(one)]
    return sorted(found, key=lambda one: (one.right is None, one.subject, one.account))


def _none(_: Any) -> Iterator[Connection]:
    return iter(())


def _right(rights: SubjectRights, account: str) -> str | None:
    held = next((one for one in rights.held_by(account) if one.principal.name == account), None)
    return str(held.right) if held is not None else None


def _linux(rights: HostRights) -> Iterator[Connection]:
    for one in rights.facts.login_sessions:
        yield Connection(
            subject=rights.subject,
            account=one.account,
            what=one.terminal,
            origin=one.host or None,
            since=one.since,
            right=_right(rights, one.account),
        )


def _windows(rights: WindowsRights) -> Iterator[Connection]:
    for one in rights.facts.sessions:
        name = rights.session_holder(one).name or one.account
        yield Connection(
            subject=rights.subject, account=name, what=f"logon type {one.kind}", origin=None, since=one.since, right=_right(rights, name)
        )


def _postgresql(rights: DatabaseRights) -> Iterator[Connection]:
    for one in rights.facts.sessions:
        yield Connection(
            subject=rights.subject,
            account=one.role,
            what=f"database {one.database}",
            origin=one.address or "socket",
            since=one.since,
            right=_right(rights, one.role),
        )


def _mariadb(rights: MariadbRights) -> Iterator[Connection]:
    for user, host in rights.facts.sessions:
        account = rights.account_of(user, host)
        name = account.name if account is not None else user
        yield Connection(
            subject=rights.subject, account=name, what="connection", origin=host or None, since=None, right=_right(rights, name)
        )


_SESSIONS: Mapping[str, Callable[[Any], Iterator[Connection]]] = {
    HostRights.platform: _linux,
    WindowsRights.platform: _windows,
    DatabaseRights.platform: _postgresql,
    MariadbRights.platform: _mariadb,
}
