"""Options that several commands share, and the one place where output meets the terminal."""

import difflib
import json
import multiprocessing
import os
import re
import shutil
import sys
from collections.abc import Callable, Container, Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta, tzinfo
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import click

from fidelitas.audit import Audit, audit
from fidelitas.cli.main import UNREAD_STATUS
from fidelitas.errors import ReadError, RequestError
from fidelitas.evidence import Bundle
from fidelitas.facts import Gap
from fidelitas.languages.linux.host import lost_evidence
from fidelitas.ledger import Ledger
from fidelitas.platforms import PLATFORMS, is_host
from fidelitas.reports import FORMATS, Table, render
from fidelitas.reports.blocks import Block, render_blocks
from fidelitas.reports.coverage import gaps_line
from fidelitas.rights import HostRights, SubjectRights
from fidelitas.sources import FileScan, LogScan, from_this_machine
from fidelitas.text import escape_control

if TYPE_CHECKING:
    from fidelitas.findings import Finding
    from fidelitas.logbook import EventFilter, Logbook
    from fidelitas.usage import AttributedEvent, Grants

S = TypeVar("S")
T = TypeVar("T")
F = TypeVar("F", bound=Callable[..., Any])


@dataclass(frozen=True, slots=True)
class Output:
    """How and where a command prints."""

    form: str = "table"

    @property
    def width(self) -> int | None:
        """The terminal's width, or nothing where output goes to a file or a pipe."""
        return shutil.get_terminal_size().columns if sys.stdout.isatty() else None

    @property
    def colour(self) -> bool:
        """Whether to colour: on a terminal, unless NO_COLOR is set."""
        return sys.stdout.isatty() and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"

    def table(self, table: Table, document: Callable[[], Any]) -> None:
        """Print a table in the form that was asked for, or the document as JSON."""
        if self.form == "json":
            self.json(document())
        else:
            self.text(render(table, self.form, width=self.width, colour=self.colour))

    def json(self, document: Any) -> None:
        """Print a JSON document: ASCII only, so that no terminal obeys what is in it."""
        self.text(json.dumps(document, indent=2) + "\n")

    def blocks(self, blocks: Sequence[Block]) -> None:
        """Print blocks."""
        self.text(render_blocks(blocks, width=self.width, colour=self.colour))

    def text(self, text: str) -> None:
        """Print text as it is; characters that the output's encoding lacks are escaped."""
        encoding = sys.stdout.encoding or "ascii"
        click.echo(text.encode(encoding, "backslashreplace").decode(encoding), nl=False)


def say(message: str) -> None:
    """Print a message on standard error."""
    click.echo(f"fidelitas: {escape_control(message)}", err=True)


def default_ledger() -> Path:
    """Return where the ledger is unless it is named: FIDELITAS_LEDGER, else the user's state folder (XDG base directories)."""
    named = os.environ.get("FIDELITAS_LEDGER")
    if named:
        return Path(named)
    state = os.environ.get("XDG_STATE_HOME")
    return (Path(state) if state else Path.home() / ".local" / "state") / "fidelitas" / "ledger"


@dataclass(frozen=True, slots=True)
class Source:
    """Which evidence a command answers from; with `logs` these and not those of the evidence, of host `name` and `zone`."""

    ledger: Path
    survey: str | None
    logs: tuple[Path, ...] = ()
    name: str | None = None
    zone: str | None = None

    def _every(self) -> tuple[Bundle, ...]:
        bundles = Ledger(self.ledger).bundles(self.survey)
        if not bundles:
            raise RequestError(f'ledger "{self.ledger}" holds no survey', hint='Run "fidelitas survey" first.')
        return bundles

    def bundles(self, subject: str | None = None) -> list[Bundle]:
        """Return the evidence of hosts in the ledger, of one or of all; refuse a subject that is not there."""
        bundles = [bundle for bundle in self._every() if is_host(bundle.platform)]
        found = [bundle for bundle in bundles if subject in (None, bundle.subject)]
        if not found:
            raise unknown_subject(subject, [bundle.subject for bundle in bundles])
        for lost in (lost_evidence(bundle) for bundle in found if subject is not None):
            if lost is not None:
                raise ReadError(f"{subject}: {lost.why}")
        return found

    def history(self, subjects: Container[str] | None = None) -> Iterator[tuple[str, list[Bundle]]]:
        """Yield each host, or some, with its evidence in the ledger, the oldest first."""
        every = Ledger(self.ledger).history(self.survey, subjects)
        with_logs = {name for name, platform in PLATFORMS.items() if platform.has_logs}
        return ((name, bundles) for name, bundles in every if bundles[-1].platform in with_logs)

    def hosts_if_any(self) -> tuple[HostRights, ...]:
        """Return the hosts of the ledger, none where there is no survey."""
        return audit(Ledger(self.ledger).bundles(self.survey)).hosts

    def logbook(self, wanted: "EventFilter | None" = None, take: "Callable[[AttributedEvent], None] | None" = None) -> "Logbook":
        """Return what the logs tell: those that were named, else those of the evidence in the ledger."""
        # Brings the numerical libraries, which other commands do without.
        from fidelitas.logbook import HostLogs, host_logs, read_logbook  # noqa: PLC0415
        from fidelitas.sources.logs import logs_at  # noqa: PLC0415

        if self.logs:
            groups = [logs for logs in logs_at(self.logs, self.name or os.uname().nodename) if logs]
            zone = zone_of(self.zone)
            return read_logbook([HostLogs(subject=logs[0].subject, logs=logs, zone=zone) for logs in groups], wanted, take, on_all_cores)
        book = read_logbook((host_logs(bundles) for _, bundles in self.history()), wanted, take, on_all_cores)
        if not book.covers:
            raise RequestError(f'ledger "{self.ledger}" holds no logs', hint="Survey hosts with their logs, or name logs with --log.")
        return book

    def use_findings(self, subjects: Container[str]) -> "list[Finding]":
        """Return what is out of order in the use of privilege on some hosts, by the logs in the ledger."""
        found = [bundles for _, bundles in self.history(subjects) if any(bundle.copies for bundle in bundles)]
        if not found:
            return []
        from fidelitas.logbook import host_logs, read_logbook  # noqa: PLC0415

        return read_logbook((host_logs(bundles) for bundles in found), each=on_all_cores).findings()

    def provenance(self, hosts: Iterable[SubjectRights]) -> "dict[str, Grants]":
        """Return what the logs in the ledger tell of how rights on some hosts came about."""
        wanted = {host.subject for host in hosts}
        found = {subject: bundles for subject, bundles in self.history(wanted) if any(bundle.copies for bundle in bundles)}
        if not found:
            return {}
        from fidelitas.logbook import host_logs, read_logbook  # noqa: PLC0415

        book = read_logbook((host_logs(bundles) for bundles in found.values()), each=on_all_cores)
        return {subject: use.grants for subject in found if (use := book.use_of(subject)) is not None}

    def audit(self) -> Audit:
        """Return the audit of the evidence in the ledger."""
        return audit(self._every())


def on_all_cores(function: Callable[[S], T], items: Iterable[S]) -> Iterator[T]:
    """Apply a function to each of some items, in their order, in as many processes as there are cores; to a single one here."""
    from concurrent.futures import ProcessPoolExecutor  # noqa: PLC0415 most commands need one process
    from concurrent.futures.process import BrokenProcessPool  # noqa: PLC0415

    known = list(items)
    cores = len(os.sched_getaffinity(0))
    if len(known) < 2 or cores < 2:
        yield from map(function, known)
        return
    try:
        pool = ProcessPoolExecutor(min(cores, len(known)), multiprocessing.get_context("fork"))
    except OSError:  # no shared memory here, as in some containers: one after another, then
        yield from map(function, known)
        return
    try:
        yield from pool.map(function, known)
    except BrokenProcessPool as error:
        raise ReadError("a process that read a subject was ended by the system", hint="Perhaps the memory was not enough.") from error
    finally:
        pool.shutdown(cancel_futures=True)


def unknown_subject(subject: str | None, known: Sequence[str]) -> RequestError:
    """Return the error that there is no evidence of a subject, and of which there is."""
    return unknown_name("there is no evidence of a subject", subject or "", known)


def unknown_name(what: str, name: str, known: Iterable[str]) -> RequestError:
    """Return the error that a name is not known, with the nearest that is: a filter that matches nothing would look like a clean answer."""
    names = sorted({one for one in known if one})
    near = difflib.get_close_matches(name, names, n=3, cutoff=0.6)
    if near:
        hint = f"Did you mean {' or '.join(near)}?"
    else:
        hint = f"Known are: {', '.join(names[:10])}{' and others' if len(names) > 10 else ''}." if names else "None is known."
    return RequestError(f'{what} "{name}"', hint=hint)


def bundle_of_root(root: Path) -> Bundle:
    """Return the evidence of a host whose root folder is given, named after the folder where it does not name itself."""
    bundle = from_this_machine(root, scan=FileScan.NOWHERE, logs=LogScan.NONE).bundle  # sudo policies need neither
    return bundle if bundle.subject else bundle.named(root.absolute().name or "host")


def hosts_of(found: Audit, subject: str | None) -> tuple[HostRights, ...]:
    """Return the hosts that are asked about; refuse one that is not in the ledger."""
    if subject is None:
        return found.hosts
    hosts = tuple(host for host in found.hosts if host.subject == subject)
    if not hosts:
        raise unknown_subject(subject, [host.subject for host in found.hosts])
    return hosts


def subjects_of(found: Audit, subject: str | None) -> tuple[SubjectRights, ...]:
    """Return the hosts and servers that are asked about; refuse one that is not in the ledger."""
    chosen = tuple(one for one in found.subjects if subject in (None, one.subject))
    if not chosen:
        raise unknown_subject(subject, [one.subject for one in found.subjects])
    return chosen


def tell_gaps(hosts: Sequence[SubjectRights]) -> None:
    """Say on standard error that evidence is missing, where it is."""
    gaps = [gap for host in hosts for gap in host.gaps]
    if gaps:
        say(gaps_line(gaps))
    note_unread(gaps)


def note_unread(gaps: Iterable[Gap]) -> None:
    """Say of every subject, log or check that was lost as a whole that it was, and let the command end with 4 unless it ends worse."""
    for gap in gaps:
        if gap.fatal:
            say(f"{gap.place.subject}: {gap.why}")
            click.get_current_context().find_root().meta[UNREAD_STATUS] = 4


def source_options(function: F) -> F:
    """Add the options that name the evidence; they arrive as one `source`."""

    def wrapped(*args: Any, ledger: Path | None, survey_name: str | None, **kwargs: Any) -> Any:
        logs = {name: kwargs.pop(f"log_{name}", None) for name in ("paths", "zone", "name")}
        source = Source(ledger or default_ledger(), survey_name, logs["paths"] or (), logs["name"], logs["zone"])
        return function(*args, source=source, **kwargs)

    wrapped.__name__, wrapped.__doc__ = function.__name__, function.__doc__
    wrapped.__dict__.update(function.__dict__)
    survey = click.option("--survey", "survey_name", metavar="NAME", help="Answer from this survey alone, not from the newest evidence.")
    return ledger_option(survey(wrapped))  # type: ignore[return-value]


def ledger_option(function: F) -> F:
    """Add --ledger."""
    return click.option(
        "--ledger",
        type=click.Path(file_okay=False, path_type=Path),
        metavar="DIR",
        help="Where surveys are kept.  [default: $FIDELITAS_LEDGER, or fidelitas/ledger in the user's state folder]",
    )(function)


def log_option(function: F) -> F:
    """Add the options that name logs instead of those in the ledger; they arrive with the `source`."""
    paths = click.option(
        "--log", "log_paths", multiple=True, type=click.Path(path_type=Path), metavar="LOG",
        help="Read this log, or folder of logs, not those in the ledger; repeatable.",
    )  # fmt: skip
    zone = click.option("--zone", "log_zone", metavar="ZONE", help="Zone of stamps in LOG that tell none, such as Europe/Lisbon.")
    name = click.option("--name", "log_name", metavar="NAME", help="Name of the host that LOG is of.  [default: this machine's]")
    return paths(zone(name(function)))


def format_option(function: F | None = None, *, jsonl: bool = False) -> Any:
    """Add --format; it arrives as an `output`.  With `jsonl` there is a form of one JSON object a line, too."""
    if function is None:
        return partial(format_option, jsonl=jsonl)

    def wrapped(*args: Any, form: str, **kwargs: Any) -> Any:
        return function(*args, output=Output(form), **kwargs)

    wrapped.__name__, wrapped.__doc__ = function.__name__, function.__doc__
    wrapped.__dict__.update(function.__dict__)
    forms = [*FORMATS, "jsonl"] if jsonl else FORMATS
    option = click.option("--format", "form", type=click.Choice(forms), default="table", show_default=True, help="Form of the output.")
    return option(wrapped)


class Duration(click.ParamType[float]):
    """A span of time in seconds: 90s, 30m, 2h."""

    name = "TIME"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> float:
        """Return the seconds of a span; refuse anything else, and what is longer than a week."""
        found = re.fullmatch(r"(\d{1,6})([smh]?)", str(value))
        seconds = int(found[1]) * {"": 1, "s": 1, "m": 60, "h": 3600}[found[2]] if found else 0
        if not 0 < seconds <= 7 * 86400:
            self.fail(f'"{value}" is not a span of time such as 90s, 30m or 2h', param, ctx)
        return float(seconds)


DURATION = Duration()


def reader_zone() -> tzinfo:
    """Return the time zone of whoever reads: TZ, or this machine's."""
    return LocalZone()


class LocalZone(tzinfo):
    """The zone of this process, whose offset depends on the time of the year."""

    def utcoffset(self, at: datetime | None) -> timedelta:
        """Return the offset at a time of this zone."""
        return self._local(at).utcoffset() or timedelta()

    def dst(self, at: datetime | None) -> timedelta | None:
        """Return nothing: the offset tells all."""
        return None

    def tzname(self, at: datetime | None) -> str:
        """Return the zone's name at a time of this zone."""
        return self._local(at).tzname() or ""

    def fromutc(self, at: datetime) -> datetime:
        """Return a time of UTC as one of this zone."""
        local = at.replace(tzinfo=UTC).astimezone()
        return local.replace(tzinfo=self)

    def _local(self, at: datetime | None) -> datetime:
        return (at or datetime.now()).replace(tzinfo=None).astimezone()  # noqa: DTZ005


def time_of(text: str | None, now: datetime) -> datetime | None:
    """Return a time that was asked for: of ISO 8601, in the reader's zone where it tells none, or so long before `now`: 7d, 12h."""
    if text is None:
        return None
    ago = re.fullmatch(r"(\d{1,5})([dhm])", text)
    if ago is not None:
        return now - int(ago[1]) * {"d": timedelta(days=1), "h": timedelta(hours=1), "m": timedelta(minutes=1)}[ago[2]]
    try:
        at = datetime.fromisoformat(text)
    except ValueError as error:
        raise RequestError(f'"{text}" is no time', hint="Such as 2026-11-01, 2026-11-01T14:00, or 7d.") from error
    return at.astimezone(UTC)


def zone_of(text: str | None) -> tzinfo:
    """Return a time zone by its name, this machine's by default; refuse one that is not known."""
    if text is None:
        return datetime.now().astimezone().tzinfo or UTC
    try:
        return ZoneInfo(text)
    except (ZoneInfoNotFoundError, ValueError, OSError) as error:
        raise RequestError(f'there is no time zone "{text}"', hint="Give a name such as Europe/Lisbon, or UTC.") from error
