"""Elevated sessions as a table, and what was done in the order of time with sessions drawn beside it."""

from collections.abc import Iterable, Sequence
from datetime import timedelta, tzinfo

from fidelitas.facts import EventKind
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.table import Table
from fidelitas.reports.usage import event_words, time_shown
from fidelitas.text import shortened
from fidelitas.usage import AttributedEvent, AttributionBasis, Session, is_shell

__all__ = ["lasted", "sessions_table", "timeline_blocks"]

_STYLES = {
    EventKind.REFUSED: "red",
    EventKind.FAILED: "red",
    EventKind.LOGIN_FAILED: "red",
    EventKind.CHANGED: "bold",
}
_NOT_SHOWN = frozenset({EventKind.OPENED, EventKind.CLOSED})


def sessions_table(found: Iterable[Session], zone: tzinfo, *, everything: bool) -> Table:
    """Return a row for each elevated session, shells alone unless `everything`, by the time when it was opened."""
    sessions = [session for session in found if session.shell or everything]
    return Table(
        columns=("opened", "host", "person", "as", "by", "terminal", "lasted", "events", "command", "place"),
        rows=tuple(_row(session, zone) for session in sorted(sessions, key=lambda one: (one.opened, one.host))),
        may_fold=frozenset({"command", "place"}),
        empty="The logs show no elevated session.",
    )


def _row(session: Session, zone: tzinfo) -> tuple[str, ...]:
    return (
        time_shown(session.opened, zone),
        session.host,
        session.person or "nobody known",
        session.account,
        session.program,
        session.terminal or "",
        lasted(session.duration),
        str(session.records) if session.shell else "",
        shortened(session.command or ""),
        session.place.in_file(),
    )


def lasted(duration: timedelta | None) -> str:
    """Return how long a session was."""
    if duration is None:
        return "never closed"
    minutes, seconds = divmod(int(duration.total_seconds()), 60)
    hours, minutes = divmod(minutes, 60)
    return f"{hours} h {minutes:02} min" if hours else f"{minutes} min {seconds:02} s" if minutes else f"{seconds} s"


def timeline_blocks(records: Sequence[AttributedEvent], zone: tzinfo) -> list[Block]:
    """Return what was done day by day and host by host; what is tied to a person's shell is drawn under it."""
    days: dict[tuple[str, str], list[AttributedEvent]] = {}
    for record in records:
        if record.event.at is not None and record.event.kind not in _NOT_SHOWN:
            days.setdefault((f"{record.event.at.astimezone(zone):%A %Y-%m-%d}", record.event.host), []).append(record)
    ordered = sorted(days.items(), key=lambda item: (item[1][0].event.at, item[0]))
    return [Block(f"{day}  {host}", tuple(row for record in those for row in _rows(record, zone))) for (day, host), those in ordered]


def _rows(record: AttributedEvent, zone: tzinfo) -> list[Row]:
    event = record.event
    within = record.basis in (
        AttributionBasis.TERMINAL,
        AttributionBasis.ONLY_SHELL,
        AttributionBasis.SEVERAL,
        AttributionBasis.COMMAND,
    )
    who = " or ".join(record.persons) or event.account or "nobody known"
    sign = "└ " if within else ""
    why = f"  [{record.basis.confidence}: {record.basis.value}]" if within else ""
    text = f"{sign}{who}: {event.kind.value if event.kind is not EventKind.USED else 'used'}  {event_words(event)}{why}"
    style = "bold" if is_shell(event) else _STYLES.get(event.kind, "")
    clock = f"{event.at.astimezone(zone):%H:%M:%S}" if event.at is not None else "        "
    return [Row(text, label=clock, indent=2 if not within else 4, style=style), Row(event.place.in_file(), indent=13, style="dim")]
