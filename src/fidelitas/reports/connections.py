"""Who is logged in or connected: a table, and the JSON document `connections`."""

from collections.abc import Sequence
from datetime import datetime, tzinfo

from fidelitas.connections import Connection
from fidelitas.reports.accounts import ago
from fidelitas.reports.numbers import counted
from fidelitas.reports.report import Report
from fidelitas.reports.table import Table

__all__ = ["connections_report"]


def connections_report(found: Sequence[Connection], taken: datetime | None, zone: tzinfo) -> Report:
    """Return sessions as they were when the evidence was `taken`, the newest of it; times are shown in a zone."""
    elevated = [one for one in found if one.right is not None]
    when = f" (evidence of {taken.astimezone(zone):%Y-%m-%d %H:%M %Z})" if taken else ""
    return Report(
        answer=lambda: [f"{counted(len(found), 'session')}, {len(elevated)} of accounts with elevated rights{when}"],
        parts=lambda: [_table(found, taken, zone)],
        document=lambda: {
            "schema": "fidelitas/connections/1",
            "connections": [
                {
                    "subject": one.subject,
                    "account": one.account,
                    "what": one.what,
                    "from": one.origin,
                    "since": one.since.isoformat() if one.since else None,
                    "right": one.right,
                }
                for one in found
            ],
        },
    )


def _table(found: Sequence[Connection], taken: datetime | None, zone: tzinfo) -> Table:
    return Table(
        columns=("subject", "account", "session", "from", "since", "right"),
        rows=tuple(
            (one.subject, one.account, one.what, one.origin or "", _since(one.since, taken, zone), one.right or "") for one in found
        ),
        may_fold=frozenset({"right"}),
        styles=tuple("bold" if one.right else "" for one in found),
        empty="Nobody was logged in or connected.",
    )


def _since(since: datetime | None, taken: datetime | None, zone: tzinfo) -> str:
    if since is None:
        return ""
    shown = f"{since.astimezone(zone):%Y-%m-%d %H:%M %Z}"
    past = ago(since, taken).partition(", ")[2] if taken else ""
    return f"{shown}, {past}" if past and past != "today" else shown
