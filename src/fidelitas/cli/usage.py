"""``fidelitas usage``."""

from datetime import UTC, datetime
from pathlib import Path

import click

from fidelitas.cli.gaps import note_unread
from fidelitas.cli.names import same_but_domain, unknown_name
from fidelitas.cli.output import Output, format_option, say
from fidelitas.cli.source import Source, log_option, source_options
from fidelitas.cli.times import reader_zone, time_of
from fidelitas.errors import ReadError, RequestError
from fidelitas.extras import installed_extra
from fidelitas.facts import EventKind
from fidelitas.logbook import EventFilter, Logbook
from fidelitas.replay import PolicyHistory, replay
from fidelitas.reports import Report
from fidelitas.reports.replay import replay_report
from fidelitas.reports.usage import outside_lines, record_line
from fidelitas.reports.usage_events import event_line
from fidelitas.reports.usage_views import VIEWS, UsageAnswer
from fidelitas.usage import AttributedEvent

_KINDS = {kind.name.lower().replace("_", "-"): kind for kind in EventKind}


@click.command
@log_option
@click.option("--person", metavar="NAME", help="Only what this person did, or can have done.")
@click.option("--host", metavar="HOST", help="Only on this host.")
@click.option("--command", "part", metavar="TEXT", help="Only with this in the command.")
@click.option("--kind", "kinds", multiple=True, type=click.Choice(list(_KINDS)), help="Only events of this kind; repeatable.")
@click.option("--since", metavar="TIME", help="Only from this time on: 2026-11-01, 2026-11-01T14:00, or 7d for the last seven days.")
@click.option("--until", metavar="TIME", help="Only before this time.")
@click.option("--events", "view", flag_value="events", help="List every event instead of a summary.")
@click.option("--sessions", "view", flag_value="sessions", help="List elevated sessions: shells, or all with --format json or csv.")
@click.option("--timeline", "view", flag_value="timeline", help="List events in the order of time, day by day.")
@click.option("--against-policy", "view", flag_value="against-policy", help="Replay uses of sudo against the policies in the ledger.")
@click.option("--figures", type=click.Path(file_okay=False, path_type=Path), metavar="DIR", help="Draw figures into DIR, as PNG and SVG.")
@source_options
@format_option(jsonl=True)
def command(
    person: str | None,
    host: str | None,
    part: str | None,
    kinds: tuple[str, ...],
    since: str | None,
    until: str | None,
    view: str | None,
    figures: Path | None,
    source: Source,
    output: Output,
) -> None:
    """Show who used privilege, who was refused or mistyped a password, who ran commands as root, and anomalies.

    The logs are those that surveys brought into the ledger, or with --log any files or folders of them: syslog in all its forms, sudo's own
    log file and records of sessions, the audit log, wtmp and btmp, and the journal, also as journalctl exports it (-o json, -o export);
    rotated and packed files are read in their order.  Times are shown in your time zone (TZ).

    \b
        fidelitas usage --since 7d --person noor --timeline
        fidelitas usage --log /var/log --kind refused --events
    """  # noqa: D301 Click wants the character itself
    now = datetime.now(UTC)
    wanted = EventFilter(
        person=person,
        host=host,
        command=part,
        kinds=frozenset(_KINDS[one] for one in kinds) or frozenset(EventKind),
        since=time_of(since, now),
        until=time_of(until, now),
    )
    ends = _end_of_window(wanted, now)
    records: list[AttributedEvent] = []
    page = person is not None and view is None
    keep = page or figures is not None or view in ("events", "timeline", "against-policy")
    at_once = output.at_once({"jsonl": record_line, "ocsf": event_line})
    book = source.logbook(wanted, at_once or (records.append if keep else None))
    _refuse_unknown(book, wanted, source)
    if at_once is None:
        records.sort(key=lambda record: record.event.at or datetime.min.replace(tzinfo=UTC))
        answer = UsageAnswer(book, records, wanted, reader_zone())
        output.report(_against(records, book, source) if view == "against-policy" else VIEWS[view or "summary"](answer))
    if figures is not None:
        _draw(figures, records, source)
    outside = outside_lines(book, wanted.since, ends, reader_zone()) if wanted.since is not None or wanted.until is not None else []
    for line in outside:
        say(line)
    _tell(book)
    if outside or book.says_nothing:
        raise SystemExit(3)


def _end_of_window(wanted: EventFilter, now: datetime) -> datetime:
    """Return until when events are wanted; refuse a window that ends before it begins."""
    ends = min(wanted.until or now, now)
    if wanted.since is not None and wanted.since >= ends:
        raise RequestError("the window is empty: it ends before it begins", hint="Give --since a time before --until and before now.")
    return ends


def _refuse_unknown(book: Logbook, wanted: EventFilter, source: Source) -> None:
    """Refuse a person or host that neither the logs nor the evidence knows: nothing found would look like nothing done."""
    if wanted.host is not None and book.use_of(wanted.host) is None:
        raise unknown_name("the logs are of no host", wanted.host, book.hosts)
    people = book.everyone
    if wanted.person is not None and wanted.person not in people:
        people = people | {name for host in source.hosts_if_any() for name in host.population.by_name}
        if wanted.person not in people:
            raise unknown_name("neither logs nor evidence know a person", wanted.person, people)
    others = same_but_domain(wanted.person, book.everyone) if wanted.person is not None else []
    if others:
        say(f"the logs also name {', '.join(others)}, of whom nothing is counted here: ask for each name that is this person's")


def _against(records: list[AttributedEvent], book: Logbook, source: Source) -> Report:
    takings = source.takings()
    held = {subject: PolicyHistory(bundles, book.use_of(subject), takings) for subject, bundles in source.history()}
    replays = replay((record.event for record in records), held)
    if not replays:
        raise RequestError("the logs hold no use of sudo on a host of the ledger", hint="Survey the host, or name its logs.")
    return replay_report(replays)


def _draw(folder: Path, records: list[AttributedEvent], source: Source) -> None:
    with installed_extra():
        from fidelitas.reports.figures import figures  # noqa: PLC0415 Matplotlib takes a second to load

    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name, content in figures(records, source.hosts_if_any(), reader_zone()):
            (folder / name).write_bytes(content)
            say(f'drew "{folder / name}"')
    except OSError as error:
        raise ReadError(f'could not write figures to "{folder}": {error.strerror or error}', hint="Name another folder.") from error


def _tell(book: Logbook) -> None:
    """Say on standard error what was not understood, and what could not be read."""
    for gap in book.gaps:
        if not gap.fatal:
            say(str(gap))
    for error in book.unread:
        say(f"{error}. {error.hint}" if error.hint else str(error))
    note_unread(book.gaps, in_part=True)
    if book.says_nothing:
        more = f" and {len(book.covers) - 3} more" if len(book.covers) > 3 else ""
        say(f"no line that concerns privilege was recognised in {', '.join(cover.path for cover in book.covers[:3])}{more}")
    if book.unknown:
        told = ", ".join(f"{program} {count}" for program, count in sorted(book.unknown.items(), key=lambda one: (-one[1], one[0])))
        say(f"not recognised, and so not counted: {told}")
    if book.unread:
        raise SystemExit(4)
