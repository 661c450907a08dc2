"""wtmp and btmp: log-ins, log-outs and failed log-ins in the records of utmp(5)."""

from collections.abc import Iterable, Iterator

from fidelitas.facts import Event, EventKind, Place
from fidelitas.languages.utmp import DEAD_PROCESS, USER_PROCESS, read_records

__all__ = ["is_log_in_records", "read_log_in_records"]


def is_log_in_records(path: str) -> bool:
    """Return whether a log by its name holds such records: nothing in them says so."""
    return path.rpartition("/")[2].partition(".")[0].partition("-")[0] in ("wtmp", "btmp")


def read_log_in_records(content: Iterable[bytes], origin: Place) -> Iterator[Event]:
    """Yield the events of a file; places count records.  A log-out is told by its terminal, whose last log-in tells the account."""
    failed = origin.path.rpartition("/")[2].startswith("btmp")
    accounts: dict[str, str] = {}
    for number, one in enumerate(read_records(b"".join(content)), 1):
        target, kind = one.account, EventKind.LOG_IN_FAILED if failed else EventKind.LOG_IN
        if one.kind == DEAD_PROCESS and not failed:
            target, kind = accounts.pop(one.terminal, ""), EventKind.CLOSED
        elif one.kind == USER_PROCESS:
            accounts[one.terminal] = one.account
        elif not failed:
            continue
        if target:
            yield Event(
                at=one.at,
                kind=kind,
                program="login records",
                target=target,
                terminal=one.terminal,
                address=one.host,
                pid=one.pid,
                place=origin.at(number),
            )
