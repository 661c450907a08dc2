"""Who is logged on, by the records of utmp(5)."""

from collections.abc import Iterator

from fidelitas.facts import LogOn
from fidelitas.languages.utmp import USER_PROCESS, read_records

__all__ = ["read_log_ons"]


def read_log_ons(content: bytes) -> Iterator[LogOn]:
    """Yield the sessions of people."""
    for one in read_records((content,)):
        if one.kind == USER_PROCESS and one.account:
            yield LogOn(account=one.account, terminal=one.terminal, host=one.host, pid=one.pid, since=one.at)
