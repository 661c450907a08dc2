"""Who is logged on, by the records of utmp(5)."""

from collections.abc import Iterator

from fidelitas.facts import LoginSession
from fidelitas.languages.utmp import USER_PROCESS, read_records

__all__ = ["read_login_sessions"]


def read_login_sessions(content: bytes) -> Iterator[LoginSession]:
    """Yield the sessions of people."""
    for one in read_records((content,)):
        if one.kind == USER_PROCESS and one.account:
            yield LoginSession(account=one.account, terminal=one.terminal, host=one.host, pid=one.pid, since=one.at)
