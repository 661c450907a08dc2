"""Parts of what is shown of the use of privilege: which hours the logs lack, why something was refused, who had a root shell."""

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime, timedelta, tzinfo
from heapq import nsmallest

from fidelitas.findings import Finding
from fidelitas.logbook import Logbook
from fidelitas.reports.findings import groups_table, tally, worst_groups
from fidelitas.reports.numbers import counted, listed
from fidelitas.reports.report import Part
from fidelitas.reports.sessions import lasted
from fidelitas.reports.table import Table
from fidelitas.reports.trend import Trend
from fidelitas.reports.usage import ranked_causes, time_shown
from fidelitas.text import shortened
from fidelitas.usage import Causes, Session, log_silences, may_tell_silences
from fidelitas.usage.plain import ELEVATED_LOGONS

__all__ = ["anomalies", "causes_table", "coverage_line", "recorded", "shells_parts", "titled", "trend_of"]

_MOST_SILENCES, _MOST_NAMES, _MOST_SHELLS, _MOST_CAUSES, _MOST_ANOMALIES = 3, 4, 12, 12, 40
# A log that ends so long before the others ends early.
_EARLY = timedelta(days=1)


def titled(title: str, table: Table | None) -> list[Part]:
    """Return a table under a title, or nothing where there is none."""
    return [] if table is None else [f"{title}\n", table, "\n"]


def trend_of(book: Logbook, window: tuple[datetime | None, datetime | None]) -> Trend | None:
    """Return the days that a trend is shown over: those of a window that was asked for, as far as logs were read of them."""
    read = [at for cover in book.covers for at in (cover.pulse.first, cover.pulse.last) if at is not None]
    begin, end = window
    within = [at for at in read if (begin is None or at >= begin) and (end is None or at < end)]
    return Trend.over([*within, *([begin] if begin is not None and within else [])])


def coverage_line(book: Logbook, zone: tzinfo, window: tuple[datetime | None, datetime | None] = (None, None)) -> str:
    """Return which hours (of a window) the logs say nothing of, which end early, and of which hosts that cannot be said."""
    hosts, (since, until) = list(book.hosts.values()), window
    lines = [
        f"{use.host} {_base(one.family)} {_span(one.begin, one.end, zone)}"
        for use in hosts
        for one in log_silences(use)
        if (since is None or one.end > since) and (until is None or one.begin < until)
    ]
    more = f" and {len(lines) - _MOST_SILENCES} more" if len(lines) > _MOST_SILENCES else ""
    parts = [f"hours without lines: {'; '.join(lines[:_MOST_SILENCES]) or 'none noticed'}{more}"]
    latest = max((last for _, last in book.spans().values()), default=None)
    early = [name for name, (_, last) in book.spans().items() if latest is not None and latest - last > _EARLY]
    if early:
        parts.append(f"logs that end early: {listed(early, _MOST_NAMES, 'host')}")
    unknown = [use.host for use in hosts if not may_tell_silences(use)]
    if unknown:
        parts.append(f"too few lines to judge that of {listed(unknown, _MOST_NAMES, 'host')}")
    return "; ".join(parts)


def _base(path: str) -> str:
    return path.rpartition("/")[2]


def _span(begin: datetime, end: datetime, zone: tzinfo) -> str:
    return f"{begin.astimezone(zone):%Y-%m-%d %H:%M} to {end.astimezone(zone):%Y-%m-%d %H:%M}"


def anomalies(findings: Sequence[Finding]) -> list[Part]:
    """Return the worst anomalies, equal ones together, and of the others how many there are by check."""
    shown, others, lines = worst_groups(findings, _MOST_ANOMALIES)
    more = f"; the worst {len(shown)} of {lines} lines" if others else ""
    parts = titled(f"Anomalies: {tally(findings)}{more}", groups_table(shown) if shown else None)
    if others:
        counts = ", ".join(f"{count} {check}" for check, count in others.most_common())
        parts.append(f"\nnot shown: {counts} (all of them: --format json)\n\n")
    return parts


def causes_table(causes: Causes, zone: tzinfo) -> Table | None:
    """Return a row for each reason for which something was refused, the most frequent first."""
    known = ranked_causes(causes)
    rows = [
        (reason, str(cause.count), _names(cause.people), _names(cause.hosts), time_shown(cause.last, zone, "%Y-%m-%d %H:%M"))
        for reason, cause in known[:_MOST_CAUSES]
    ]
    if len(known) > _MOST_CAUSES:
        others = [cause for _, cause in known[_MOST_CAUSES:]]
        rows.append((f"{counted(len(others), 'other reason')}", str(sum(cause.count for cause in others)), "", "", ""))
    columns = ("refused for", "times", "who", "where", "last")
    return Table(columns=columns, rows=tuple(rows), may_fold=frozenset({"refused for"})) if rows else None


def _names(names: Iterable[str]) -> str:
    return listed(sorted(names), _MOST_NAMES, "more")


def shells_parts(sessions: Iterable[Session], zone: tzinfo, left_out: int = 0) -> list[Part]:
    """Return the shells as another account, the longest first: who, for how long, and how much was done in them that logs tie to them.

    Of many no more are held than are shown; of those `left_out` nothing but their number is known.
    """
    count = Counter[str]()
    longest = nsmallest(
        _MOST_SHELLS, _counting(sessions, count), key=lambda one: (one.duration is not None, -(one.duration or timedelta()), one.opened)
    )
    rows = [
        (
            time_shown(one.opened, zone, "%Y-%m-%d %H:%M"),
            lasted(one.duration),
            one.host,
            one.person or "nobody known",
            one.account,
            f"{one.program} {shortened(one.command or '')}".rstrip(),
            str(one.records),
            recorded(one),
            one.place.in_file(),
        )
        for one in longest
    ]
    columns = ("opened", "lasted", "host", "person", "as", "by", "events", "recorded", "place")
    table = Table(columns=columns, rows=tuple(rows), may_fold=frozenset({"by"}), least=("place",))
    return titled(_shells_title(count, left_out), table if rows else None)


def _counting(sessions: Iterable[Session], count: Counter[str]) -> Iterator[Session]:
    """Yield the shells, without the logons of Windows, which records what is run in them; count them by what is known of them."""
    for one in sessions:
        if one.shell and one.program not in ELEVATED_LOGONS:
            count["all"] += 1
            count["recorded"] += bool(one.recording or one.lists_commands)
            count["unending"] += one.duration is None
            yield one


def recorded(session: Session) -> str:
    """Return what sudo keeps of what was done in a session: where its record is, and whether its commands are logged."""
    return ", ".join(filter(None, (session.recording, "each command" if session.lists_commands else ""))) or "no"


def _shells_title(count: Counter[str], left_out: int) -> str:
    """Return how many there are, of how many no end is known or their number alone, and how many sudo records what was done in."""
    kept, unending = count["recorded"], count["unending"]
    more = f", {unending} of them without an end in the logs" if unending else ""
    shown = f"; the {_MOST_SHELLS} longest" if count["all"] > _MOST_SHELLS else ""
    ends = "in which attribution ends" if not kept else f"of which {kept} recorded by sudo; in others attribution ends"
    others = f"; of {left_out} more that were closed nothing but their number is kept" if left_out else ""
    return f"Shells as another account, {ends}: {count['all']}{more}{shown}{others}"
