"""Use of privilege: people and numbers, what is worth a look, and every event; as blocks, a table, and the JSON document `usage`."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from fidelitas.facts import Event, EventKind, Gap
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.holders import place_document
from fidelitas.reports.table import Table
from fidelitas.usage import Deed, Ground, PersonUse
from fidelitas.usage.persons import is_shell

__all__ = ["head_block", "people_table", "usage_blocks", "usage_document", "usage_table"]

# A log, and the times of its first and last event.
Cover = tuple[str, datetime | None, datetime | None]

# Of one kind of events a summary shows so many; the rest is counted, and all are listed with --events.
_MOST_SHOWN = 12


def people_table(people: Sequence[PersonUse]) -> Table:
    """Return a row for each person."""
    return Table(
        columns=("person", "hosts", "used", "refused", "wrong passwords", "shells", "changes", "last", "most often"),
        rows=tuple(
            (
                use.person,
                str(len(use.hosts)),
                str(use.used),
                str(use.refused),
                str(use.failed),
                str(use.shells),
                str(use.changes),
                _time(use.last),
                ", ".join(f"{command} ({count})" for command, count in use.commands.most_common(3)),
            )
            for use in people
        ),
        may_fold=frozenset({"most often"}),
        empty="Nobody used a privilege, as far as the logs tell.",
    )


def head_block(deeds: Sequence[Deed], covers: Sequence[Cover]) -> Block:
    """Return how much was read, and of which time."""
    times = [at for _, *both in covers for at in both if at is not None]
    span = f", from {min(times):%Y-%m-%d %H:%M} to {max(times):%Y-%m-%d %H:%M} UTC" if times else ""
    return Block(f"{len(deeds)} event{'' if len(deeds) == 1 else 's'} in {len(covers)} log{'' if len(covers) == 1 else 's'}{span}", ())


def usage_blocks(deeds: Sequence[Deed]) -> list[Block]:
    """Return what is worth a look: doubtful lines, refusals, root shells, changes of accounts, log-ins as root."""
    groups = (
        ("Lines that may be forged", "bold magenta", [deed for deed in deeds if deed.event.doubt]),
        ("Refused", "bold red", [deed for deed in deeds if deed.event.kind is EventKind.REFUSED]),
        (
            "Shells, in which names end",
            "bold yellow",
            [deed for deed in deeds if is_shell(deed.event) and deed.ground is not Ground.NOBODY],
        ),
        ("Changes of accounts and groups", "bold yellow", [deed for deed in deeds if deed.event.kind is EventKind.CHANGED]),
        ("Log-ins as root", "bold yellow", [deed for deed in deeds if deed.event.kind is EventKind.LOG_IN and deed.event.target == "root"]),
    )
    return [_block(title, style, found) for title, style, found in groups if found]


def _block(title: str, style: str, deeds: Sequence[Deed]) -> Block:
    rows = [row for deed in deeds[:_MOST_SHOWN] for row in _rows(deed)]
    more = len(deeds) - _MOST_SHOWN
    return Block(f"{title}: {len(deeds)}", (*rows, *([Row(f"and {more} more: see --events")] if more > 0 else [])), style=style)


def _rows(deed: Deed) -> list[Row]:
    event = deed.event
    rows = [Row(f"{_time(event.at)}  {event.host}  {_who(deed)}: {_what(event)}"), Row(event.place.in_file(), indent=8, style="cyan")]
    if event.doubt:
        rows.append(Row(event.doubt, indent=8, style="magenta"))
    if deed.ground not in (Ground.NAMED, Ground.NOBODY):
        rows.append(Row(f"tied to {' or '.join(deed.persons)}: {deed.ground.value}", indent=8))
    return rows


def _who(deed: Deed) -> str:
    return " or ".join(deed.persons) or deed.event.account or "nobody known"


def _what(event: Event) -> str:
    """Return what happened in a few words."""
    if event.kind is EventKind.CHANGED:
        named = f"{event.target} (group {event.group})" if event.target and event.group else event.target or f"group {event.group}"
        return f"{named}: {event.reason} ({event.program})"
    if event.kind in (EventKind.LOG_IN, EventKind.LOG_IN_FAILED):
        return f"{event.program} as {event.target}" + (f" from {event.address}" if event.address else "") + f", {event.reason}"
    as_whom = f" as {event.target}" if event.target else ""
    group = f" with group {event.group}" if event.group else ""
    command = f" {event.command}" if event.command else ""
    return f"{event.program}{as_whom}{group}{command}" + (f" ({event.reason})" if event.reason else "")


def _time(at: datetime | None) -> str:
    return f"{at:%Y-%m-%d %H:%M:%S}" if at is not None else "time not known"


def usage_table(deeds: Sequence[Deed]) -> Table:
    """Return a row for each event."""
    return Table(
        columns=("time", "host", "person", "kind", "program", "account", "as", "group", "terminal", "command", "reason", "place"),
        rows=tuple(
            (
                _time(event.at),
                event.host,
                " or ".join(deed.persons),
                event.kind.value,
                event.program,
                event.account,
                event.target,
                event.group,
                event.terminal,
                event.command,
                event.reason,
                event.place.in_file(),
            )
            for deed in deeds
            for event in (deed.event,)
        ),
        may_fold=frozenset({"command", "reason", "place"}),
        empty="The logs tell of no use of privilege.",
    )


def usage_document(
    deeds: Sequence[Deed],
    people: Sequence[PersonUse],
    unknown: Mapping[str, int],
    gaps: Sequence[Gap],
    covers: Sequence[Cover],
) -> dict[str, Any]:
    """Return the JSON document of usage."""
    return {
        "schema": "fidelitas/usage/1",
        "logs": [{"path": path, "from": _iso(first), "to": _iso(last)} for path, first, last in covers],
        "people": [
            {
                "person": use.person,
                "hosts": sorted(use.hosts),
                "used": use.used,
                "refused": use.refused,
                "wrong_passwords": use.failed,
                "shells": use.shells,
                "changes": use.changes,
                "doubtful": use.doubtful,
                "first": _iso(use.first),
                "last": _iso(use.last),
                "commands": dict(use.commands),
            }
            for use in people
        ],
        "events": [_event_document(deed) for deed in deeds],
        "not_recognised": dict(unknown),
        "gaps": [str(gap) for gap in gaps],
    }


def _event_document(deed: Deed) -> dict[str, Any]:
    event = deed.event
    return {
        "time": _iso(event.at),
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
        "count": event.count,
        "address": event.address or None,
        "doubt": event.doubt or None,
        "persons": list(deed.persons),
        "ground": deed.ground.value,
        "place": place_document(event.place),
    }


def _iso(at: datetime | None) -> str | None:
    return at.isoformat() if at is not None else None
