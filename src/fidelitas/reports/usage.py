"""Use of privilege: people and numbers, what is worth a look, and every event; as blocks, tables, and the JSON document `usage`.

Times are shown in a zone that is given, the reader's; documents have them in UTC.
"""

import json
from collections.abc import Iterable, Mapping, Sequence
from datetime import date, datetime, timedelta, tzinfo
from itertools import islice
from typing import Any

from fidelitas.facts import Event, EventKind
from fidelitas.logbook import Logbook
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.numbers import counted
from fidelitas.reports.places import place_document
from fidelitas.reports.report import Listed
from fidelitas.reports.table import Table
from fidelitas.reports.trend import Trend
from fidelitas.text import shortened
from fidelitas.usage import AttributedEvent, AttributionBasis, Cause, Causes, HostUse, Notable, PersonUse, Session

__all__ = [
    "event_words",
    "head_line",
    "outside_lines",
    "people_table",
    "ranked_causes",
    "record_blocks",
    "record_document",
    "record_line",
    "time_shown",
    "usage_blocks",
    "usage_document",
    "usage_table",
]

# Of one sort of actions a summary shows so many; the rest is counted, and all are listed with --events.
_MOST_SHOWN = 8
_SECONDS, _MINUTES = "%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M"
_SORTS = (
    (Notable.SUSPECTED_FORGERY, "Suspected forgeries", "bold red"),
    (Notable.REFUSED, "Refused", "bold red"),
    (Notable.CHANGED, "Changes of accounts and groups", "bold"),
    (Notable.ROOT_LOGIN, "Logins as root", "bold"),
)


def time_shown(at: datetime | None, zone: tzinfo, form: str = _SECONDS) -> str:
    """Return a time as it is shown in rows, in the reader's zone."""
    return f"{at.astimezone(zone):{form}}" if at is not None else "time not known"


def people_table(people: Sequence[PersonUse], zone: tzinfo, trend: Trend | None = None, *, whole: bool = False) -> Table:
    """Return a row for each person; with a `trend` how much in which days, with the `whole` on how many hosts, and times to the second."""
    last = _SECONDS if whole else _MINUTES
    return Table(
        columns=(
            "person",
            *(("hosts",) if whole else ()),
            "used",
            "as",
            "refused",
            "wrong passwords",
            "shells",
            "changes",
            *((trend.title,) if trend is not None else ()),
            "last",
            "most often",
        ),
        rows=tuple(
            (
                use.person,
                *((str(len(use.hosts)),) if whole else ()),
                str(use.used),
                ", ".join(target for target, _ in _most(use.targets)[:3]),
                str(use.refused),
                f"{use.failed} ({use.failures})" if use.failed else "0",
                str(use.shells),
                str(use.changes),
                *((trend.of(use.days),) if trend is not None else ()),
                time_shown(use.last, zone, last),
                ", ".join(f"{command} ({count})" for command, count in _most(use.commands)[:3]),
            )
            for use in people
        ),
        may_fold=frozenset({"most often"}),
        least=("changes", *((trend.title,) if trend is not None else ()), "as"),
        empty="The logs show no use of privilege.",
    )


def _most(counts: Mapping[str, int]) -> list[tuple[str, int]]:
    """Return what was counted, the most frequent first, by name where they are as many: in whichever order it was read."""
    return sorted(counts.items(), key=lambda one: (-one[1], one[0]))


def head_line(book: Logbook, zone: tzinfo, window: tuple[datetime | None, datetime | None] = (None, None)) -> str:
    """Return how much was read, and of which time: the window that was asked for, where one was."""
    read = [at for cover in book.covers for at in (cover.pulse.first, cover.pulse.last) if at is not None]
    times = [at for at in window if at is not None] or read
    begin, end = (f"{at.astimezone(zone):%Y-%m-%d %H:%M %Z}" for at in (min(times), max(times))) if times else ("", "")
    span = "" if not times else f", from {begin}" if window[1] is None and window[0] is not None else f", from {begin} to {end}"
    if window[0] is None and window[1] is not None:
        span = f", until {end}"
    relays = sum(1 for use in book.hosts.values() if use.logs and all(log.of_others for log in use.logs))
    hosts = f" of {counted(len(book.hosts) - relays, 'host')}"
    logs = len(book.covers)
    nothing = ", in which no line that concerns privilege was recognised" if book.says_nothing else ""
    return f"{counted(book.records, 'event')} in {counted(logs, 'log')}{hosts}{span}{nothing}"


def outside_lines(book: Logbook, since: datetime | None, until: datetime, zone: tzinfo) -> list[str]:
    """Return in words which part of a window the logs do not cover; hosts of which the same is so share a line."""
    lines: dict[str, list[str]] = {}
    for host, (first, last) in sorted(book.spans().items()):
        if since is not None and first > since and first < until:
            lines.setdefault(f"begin {first.astimezone(zone):%Y-%m-%d %H:%M}: what was before is unknown", []).append(host)
        if last < until:
            lost = "all of the window is" if since is not None and last < since else f"the last {_length(until - last)} are"
            lines.setdefault(f"end {last.astimezone(zone):%Y-%m-%d %H:%M}: {lost} unknown", []).append(host)
        elif since is not None and first > until:
            lines.setdefault(f"begin {first.astimezone(zone):%Y-%m-%d %H:%M}, after the window", []).append(host)
    return [f"logs of {', '.join(hosts)} {text}" for text, hosts in lines.items()]


def _length(span: timedelta) -> str:
    days, hours = span.days, span.seconds // 3600
    return f"{days} day{'' if days == 1 else 's'}" if days else f"{max(hours, 1)} hour{'' if hours < 2 else 's'}"


def usage_blocks(hosts: Iterable[HostUse], zone: tzinfo) -> list[Block]:
    """Return what is worth a look: doubtful lines, refusals, root shells, changes of accounts, log-ins as root."""
    hosts = tuple(hosts)
    blocks = []
    for sort, title, style in _SORTS:
        records = list(islice((record for use in hosts for record in use.notable.get(sort, ())), _MOST_SHOWN))
        count = sum(use.counted[sort] for use in hosts)
        if records:
            blocks.append(_block(f"{title}: {count}", style, records, count, zone))
    return blocks


def record_blocks(records: Sequence[AttributedEvent], zone: tzinfo) -> list[Block]:
    """Return of some events the same, but for shells and log-ins."""
    doubtful = [record for record in records if record.event.doubt]
    refused = [record for record in records if record.event.kind is EventKind.REFUSED and not record.event.doubt]
    changed = [record for record in records if record.event.kind is EventKind.CHANGED and not record.event.doubt]
    titles = (
        ("Suspected forgeries", "bold red", doubtful),
        ("Refused", "bold red", refused),
        ("Changes of accounts and groups", "bold", changed),
    )
    return [_block(f"{title}: {len(those)}", style, those, len(those), zone) for title, style, those in titles if those]


def _block(title: str, style: str, records: Sequence[AttributedEvent], count: int, zone: tzinfo) -> Block:
    rows = [row for record in records[:_MOST_SHOWN] for row in _rows(record, zone)]
    more = count - _MOST_SHOWN
    return Block(title, (*rows, *([Row(f"and {more} more: see --events")] if more > 0 else [])), style=style)


def _rows(record: AttributedEvent, zone: tzinfo) -> list[Row]:
    event = record.event
    rows = [Row(f"{time_shown(event.at, zone)}  {event.host}  {_who(record)}: {event_words(event)}")]
    rows.append(Row(event.place.in_file(), indent=8, style="dim"))
    if event.doubt:
        rows.append(Row(event.doubt, indent=8, style="red"))
    if record.basis not in (AttributionBasis.NAMED, AttributionBasis.NOBODY):
        rows.append(Row(f"attributed to {' or '.join(record.persons)}, {record.basis.confidence}: {record.basis.value}", indent=8))
    return rows


def _who(record: AttributedEvent) -> str:
    return " or ".join(record.persons) or record.event.account or "nobody known"


def event_words(event: Event) -> str:
    """Return what happened in a few words."""
    if event.kind is EventKind.CHANGED:
        named = f"{event.target} (group {event.group})" if event.target and event.group else event.target or f"group {event.group}"
        return f"{named}: {event.reason} ({event.program})"
    if event.kind in (EventKind.LOGIN, EventKind.LOGIN_FAILED):
        return f"{event.program} as {event.target}" + (f" from {event.address}" if event.address else "") + f", {event.reason}"
    as_whom = f" as {event.target}" if event.target else ""
    group = f" with group {event.group}" if event.group else ""
    command = f" {shortened(event.command)}" if event.command else ""
    return f"{event.program}{as_whom}{group}{command}" + (f" ({event.reason})" if event.reason else "")


def usage_table(records: Sequence[AttributedEvent], zone: tzinfo) -> Table:
    """Return a row for each event."""
    return Table(
        columns=("time", "host", "person", "kind", "program", "account", "as", "group", "terminal", "command", "reason", "place"),
        rows=tuple(
            (
                time_shown(event.at, zone),
                event.host,
                " or ".join(record.persons),
                event.kind.value,
                event.program,
                event.account,
                event.target,
                event.group,
                event.terminal,
                shortened(event.command),
                event.reason,
                event.place.in_file(),
            )
            for record in records
            for event in (record.event,)
        ),
        may_fold=frozenset({"command", "reason", "place"}),
        empty="The logs show no use of privilege.",
    )


def usage_document(book: Logbook, findings: Iterable[dict[str, Any]], records: Sequence[AttributedEvent] | None) -> dict[str, Any]:
    """Return the JSON document of usage; with `actions` every event."""
    covers = [(cover.path, cover.pulse.first, cover.pulse.last) for cover in book.covers]
    return {
        "schema": "fidelitas/usage/1",
        "logs": [{"path": path, "from": iso(first), "to": iso(last)} for path, first, last in covers],
        "people": [_person_document(use) for use in book.people.ranked()],
        "refused_for": [_cause_document(reason, cause) for reason, cause in ranked_causes(book.people.causes)],
        "findings": findings,
        "sessions": Listed(lambda: (session_document(session) for use in book.hosts.values() for session in use.sessions)),
        "sessions_left_out": sum(use.sessions_left_out for use in book.hosts.values()),
        "event_count": book.records,
        "events": None if records is None else Listed(lambda: map(record_document, records)),
        "not_recognised": dict(book.unknown),
        "gaps": [str(gap) for gap in (*book.gaps, *book.unread)],
    }


def _person_document(use: PersonUse) -> dict[str, Any]:
    return {
        "person": use.person,
        "hosts": sorted(use.hosts),
        "used": use.used,
        "as": dict(_most(use.targets)),
        "refused": use.refused,
        "wrong_passwords": use.failed,
        "failures_are": use.failures or None,
        "shells": use.shells,
        "changes": use.changes,
        "doubtful": use.doubtful,
        "first": iso(use.first),
        "last": iso(use.last),
        "commands": dict(_most(use.commands)),
        "days": {date.fromordinal(day).isoformat(): count for day, count in sorted(use.days.items())},
    }


def _cause_document(reason: str, cause: Cause) -> dict[str, Any]:
    return {
        "reason": reason,
        "count": cause.count,
        "people": sorted(cause.people),
        "hosts": sorted(cause.hosts),
        "last": iso(cause.last),
    }


def ranked_causes(causes: Causes) -> list[tuple[str, Cause]]:
    """Return the reasons for which something was refused, the most frequent first."""
    return sorted(causes.by_reason.items(), key=lambda one: (-one[1].count, one[0]))


def session_document(session: Session) -> dict[str, Any]:
    """Return the JSON form of a session."""
    return {
        "opened": iso(session.opened),
        "closed": iso(session.closed),
        "seconds": None if session.duration is None else session.duration / timedelta(seconds=1),
        "host": session.host,
        "person": session.person or None,
        "as": session.account,
        "program": session.program,
        "terminal": session.terminal or None,
        "command": session.command or None,
        "shell": session.shell,
        "recording": session.recording or None,
        "commands_logged": session.lists_commands,
        "events": session.records,
        "place": place_document(session.place),
    }


def record_document(record: AttributedEvent) -> dict[str, Any]:
    """Return the JSON form of an event and who stood behind it."""
    event = record.event
    return {
        "time": iso(event.at),
        "kind": event.kind.value,
        "host": event.host,
        "program": event.program,
        "account": event.account or None,
        "as": event.target or None,
        "group": event.group or None,
        "terminal": event.terminal or None,
        "folder": event.folder or None,
        "command": event.command or None,
        "reason": event.reason or None,
        "change": event.change,
        "count": event.times,
        "address": event.address or None,
        "doubt": event.doubt or None,
        "recording": event.recording or None,
        "within_session": event.within,
        "persons": list(record.persons),
        "basis": record.basis.value,
        "confidence": record.basis.confidence,
        "place": place_document(event.place),
    }


def record_line(record: AttributedEvent) -> str:
    """Return an event as a line of JSON."""
    return json.dumps(record_document(record)) + "\n"


def iso(at: datetime | None) -> str | None:
    """Return a time as documents have it."""
    return at.isoformat() if at is not None else None
