"""Which evidence a command answers from, and the options that say so."""

import os
from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click
from msgspec import Struct, field
from msgspec.structs import replace

from fidelitas.audit import Audit, audit, takings_of
from fidelitas.cli.complete import surveys
from fidelitas.cli.engine import engine_for, engine_option
from fidelitas.cli.main import UNREAD_STATUS
from fidelitas.cli.names import unknown_name, unknown_subject
from fidelitas.cli.output import say
from fidelitas.cli.progress import progress, watched
from fidelitas.cli.times import zone_of
from fidelitas.engines import cores, on_all_cores
from fidelitas.equality import equal_apart_from
from fidelitas.errors import ReadError, RequestError
from fidelitas.estate import has_tag
from fidelitas.evidence import Bundle
from fidelitas.languages.evidence import lost_evidence
from fidelitas.platforms import PLATFORMS, is_host
from fidelitas.reports.numbers import counted
from fidelitas.rights import HostRights, SubjectRights, Takings
from fidelitas.sources import FileScan, LogScan, from_this_machine

if TYPE_CHECKING:
    from fidelitas.conclusions.use import UseMemory
    from fidelitas.findings import Finding
    from fidelitas.ledger import Ledger, StoredEvidence
    from fidelitas.logbook import EventFilter, Logbook
    from fidelitas.logbook_memory import LogbookMemory
    from fidelitas.usage import AttributedEvent, Grants, Latest

__all__ = ["Source", "bundle_of_root", "default_ledger", "ledger_option", "log_option", "one_source_options", "source_options"]

F = TypeVar("F", bound=Callable[..., Any])


def default_ledger() -> str:
    """Return where the ledger is unless it is named: FIDELITAS_LEDGER, else the user's state folder (XDG base directories)."""
    named = os.environ.get("FIDELITAS_LEDGER")
    if named:
        return named
    state = os.environ.get("XDG_STATE_HOME")
    return str((Path(state) if state else Path.home() / ".local" / "state") / "fidelitas" / "ledger")


@equal_apart_from("_opened", "_read")
class Source(Struct, frozen=True):
    """Which evidence a command answers from, by the place of the ledger.

    With `logs` these and not those of the evidence, of host `name` and `zone`.
    """

    place: str
    survey: str | None
    logs: tuple[Path, ...] = ()
    name: str | None = None
    zone: str | None = None
    tags: tuple[str, ...] = ()
    _opened: "list[Ledger]" = field(default_factory=list)
    _read: "list[StoredEvidence]" = field(default_factory=list)

    @classmethod
    def of(cls, ledger: "Ledger") -> "Source":
        """Return the newest evidence of a ledger that is open."""
        return cls(str(ledger), None, _opened=[ledger])

    @property
    def ledger(self) -> "Ledger":
        """The ledger, which is loaded when it is first asked for: logs that are named are read without one."""
        if not self._opened:
            from fidelitas.ledger import Ledger  # noqa: PLC0415 brings what speaks with databases

            self._opened.append(Ledger(self.place, _note_damage))
        return self._opened[0]

    @property
    def answered_from(self) -> str | None:
        """The ledger that an answer is from; ``None`` where logs were named and nothing was taken from one."""
        return None if self.logs and not self._opened else str(self.ledger)

    def chosen(self, stored: "StoredEvidence") -> list[str]:
        """Return the subjects that have one of the tags that are asked for, all without any; refuse a tag that no subject has."""
        tags = stored.tags()
        for tag in self.tags:
            if not any(has_tag(one, tag) for one in tags.values()):
                known = {one for some in tags.values() for one in some}
                raise unknown_name("no subject in the ledger has the tag", tag, known | {one.rpartition("=")[2] for one in known})
        return [name for name, some in tags.items() if not self.tags or any(has_tag(some, tag) for tag in self.tags)]

    def _stored(self) -> "StoredEvidence":
        """Return what the ledger has, which is read once in a command; refuse one without a survey."""
        if not self._read:
            stored = self.ledger.newest(self.survey)
            if not stored.names:
                raise self.ledger.nothing_finished()
            self._read.append(stored)
        return self._read[0]

    @property
    def no_subject(self) -> str:
        """How a message begins that nothing that is asked has something: "no subject in evidence", or of those with some tags."""
        return f"no subject with the tag {' or '.join(self.tags)}" if self.tags else "no subject in evidence"

    def evidence_with(self, subject: str | None) -> "StoredEvidence":
        """Return the evidence of all subjects; refuse a subject that is not there, or whose evidence is lost."""
        stored = self._stored()
        if subject is not None and subject not in stored.subjects():
            raise unknown_subject(subject, list(stored.subjects()))
        lost = lost_evidence(stored.evidence(subject)) if subject is not None else None
        if lost is not None:
            raise ReadError(f"{subject}: {lost.why}")
        return stored

    def tags_of(self) -> Mapping[str, tuple[str, ...]]:
        """Return the tags of each subject, by its name."""
        return self._stored().tags()

    def bundles(self, subject: str | None = None) -> list[Bundle]:
        """Return the evidence of hosts in the ledger, of one or of all; refuse a subject that is not there."""
        stored = self._stored()
        chosen = set(self.chosen(stored))
        hosts = [name for name, (platform, _) in stored.subjects().items() if is_host(platform) and name in chosen]
        found = [stored.evidence(name) for name in hosts if subject in (None, name)]
        if not found:
            raise unknown_subject(subject, hosts)
        for lost in (lost_evidence(bundle) for bundle in found if subject is not None):
            if lost is not None:
                raise ReadError(f"{subject}: {lost.why}")
        return found

    def history(self, subjects: Container[str] | None = None, *, with_logs: bool = False) -> Iterator[tuple[str, Sequence[Bundle]]]:
        """Yield each host, or some, or those `with_logs`, with its evidence in the ledger, the oldest first."""
        return self.ledger.history(self.survey, self._with_logs(subjects), with_logs=with_logs)

    def _with_logs(self, subjects: Container[str] | None) -> set[str]:
        """Return those of some subjects, or of all, that are of a platform with logs and have a tag that is asked for."""
        logging = {name for name, platform in PLATFORMS.items() if platform.has_logs}
        stored = self._stored()
        chosen = set(self.chosen(stored))
        named = {name for name, (platform, _) in stored.subjects().items() if platform in logging and name in chosen}
        return {name for name in named if subjects is None or name in subjects}

    def evidence(self, subject: str) -> Iterator[tuple[str, Sequence[Bundle]]]:
        """Yield the evidence of a subject of any platform, the oldest first."""
        return self.ledger.history(self.survey, {subject})

    def newest_evidence(self, subject: str) -> Bundle | None:
        """Return the newest evidence of a subject of any platform; nothing where it is lost."""
        stored = self._stored()
        bundle = stored.evidence(subject) if subject in stored.subjects() else None
        return None if bundle is None or lost_evidence(bundle) is not None else bundle

    def all_history(self, subjects: Container[str] | None) -> Iterator[tuple[str, Sequence[Bundle]]]:
        """Yield each subject that is asked for with all its evidence, the oldest first."""
        chosen = self.chosen(self._stored())
        return self.ledger.history(self.survey, {name for name in chosen if subjects is None or name in subjects})

    def hosts_if_any(self) -> tuple[HostRights, ...]:
        """Return the hosts of the ledger, none where there is no survey."""
        stored = self.ledger.newest(self.survey)
        return audit(stored, self.chosen(stored) if self.tags else None, findings=False).hosts

    def logbook(self, wanted: "EventFilter | None" = None, take: "Callable[[AttributedEvent], None] | None" = None) -> "Logbook":
        """Return what the logs tell: those that were named, else those of the evidence in the ledger."""
        # Brings the numerical libraries, which other commands do without.
        from fidelitas.languages.logs.hosts_named import hosts_named_in  # noqa: PLC0415
        from fidelitas.languages.logs.thinning import thinned  # noqa: PLC0415
        from fidelitas.logbook import EventFilter, HostLogs, read_logbook  # noqa: PLC0415
        from fidelitas.logbook_form import packed  # noqa: PLC0415
        from fidelitas.sources.logs import logs_at  # noqa: PLC0415

        if self.logs:
            zone = zone_of(self.zone)
            groups = [logs for logs in logs_at(self.logs, self.name, hosts_named_in) if logs]
            if not groups:
                where = ", ".join(f'"{path}"' for path in self.logs)
                raise RequestError(f"there is no log in {where}", hint="Name files, or a folder whose files have the names of logs.")
            with progress(f"reading {counted(sum(map(len, groups)), 'log')} of {counted(len(groups), 'host')}"):
                short = [thinned(logs, on_all_cores, cores()) for logs in groups]
                hosts = [HostLogs(subject=logs[0].subject, logs=logs, zone=zone) for logs in short]
                return read_logbook(hosts, wanted, take, packed(on_all_cores), cores())
        with progress("reading the logs of") as report:
            if take is None:
                book = self._remembered_logbook(wanted or EventFilter(), report, None)
            else:
                book = self._read_now(wanted or EventFilter(), take, report, None)
        if not book.covers:
            raise RequestError(f'ledger "{self.ledger}" holds no logs', hint="Survey hosts with their logs, or name logs with --log.")
        return book

    def _remembered_logbook(self, wanted: "EventFilter", report: Callable[[str], None], subjects: Container[str] | None) -> "Logbook":
        """Return what the logs of some hosts, or of all, record: read where that is not kept."""
        from fidelitas.logbook import HostLogs, host_logs  # noqa: PLC0415 as in logbook
        from fidelitas.logbook_form import packed  # noqa: PLC0415

        memory, digests = self._logbook_memory(wanted, subjects)

        def read(subjects: Container[str]) -> Iterator[HostLogs]:
            for subject, bundles in watched(self.history(subjects), report, lambda one: one[0], len(digests)):
                yield host_logs(bundles, memory.copies(subject))

        lacking = memory.lacking()
        if lacking:
            engine_for(self.ledger).read_logs(self.ledger, self.ledger.history_numbers(self.survey, lacking), wanted)
        return memory.book(read, packed(on_all_cores), cores())

    def _logbook_memory(
        self, wanted: "EventFilter", subjects: Container[str] | None
    ) -> "tuple[LogbookMemory, Mapping[str, tuple[bytes, ...]]]":
        """Return what is kept of the logs of some hosts, or of all, and the digests of their evidence."""
        from fidelitas.logbook_memory import LogbookMemory  # noqa: PLC0415

        digests = self.ledger.history_digests(self.survey, self._with_logs(subjects), with_logs=subjects is not None)
        return LogbookMemory(self.ledger.stored_answers(), digests, wanted, lambda: self.ledger.is_whole), digests

    def _read_now(
        self,
        wanted: "EventFilter",
        take: "Callable[[AttributedEvent], None]",
        report: Callable[[str], None],
        subjects: Container[str] | None,
    ) -> "Logbook":
        """Read the logs that the ledger has of some hosts, or of all, and give each action that is asked for."""
        from fidelitas.logbook import host_logs, read_logbook  # noqa: PLC0415

        memory, digests = self._logbook_memory(wanted, subjects)
        history = watched(self.history(subjects, with_logs=subjects is not None), report, lambda one: one[0], len(digests))
        return read_logbook((host_logs(bundles, memory.copies(subject)) for subject, bundles in history), wanted, take)

    def use_findings(self, subjects: Container[str]) -> "list[Finding]":
        """Return what is out of order in the use of privilege on some hosts, by the logs in the ledger."""
        memory = self._use_memory(subjects)
        return [] if memory is None else memory.findings(lambda: self._read_use(subjects).findings())

    def every_finding(self, found: Audit) -> "list[Finding]":
        """Return the findings of an audit with those on the use of privilege on its subjects, worst first."""
        use = self.use_findings({one.subject for one in found.subjects})
        return sorted([*found.findings, *use], key=lambda finding: finding.severity)

    def provenance(self, hosts: Iterable[SubjectRights]) -> "dict[str, Grants]":
        """Return what the logs in the ledger tell of how rights on some hosts came about."""
        wanted = {host.subject for host in hosts}
        memory = self._use_memory(wanted)
        return {} if memory is None else memory.grants(lambda: self._grants(wanted))

    def last_logins(self, subjects: Container[str]) -> "dict[tuple[str, str], datetime]":
        """Return the last login of each account that the logs in the ledger record, by subject and account."""
        memory = self._use_memory(subjects)
        return {} if memory is None else memory.last_logins(lambda: self._last_logins(subjects))

    def latest(self, subjects: Container[str]) -> "dict[str, Latest]":
        """Return when accounts logged in and used privilege last on some hosts, by the logs in the ledger; nothing without any."""
        return self._read_use(subjects).latest if self.ledger.has_logs else {}

    def logged(self, subjects: Container[str]) -> set[str]:
        """Return those of some hosts whose logs the ledger has."""
        return set(self.ledger.history_digests(self.survey, self._with_logs(subjects), with_logs=True)) if self.ledger.has_logs else set()

    def read_events(self, subjects: Container[str], take: "Callable[[AttributedEvent], None]") -> None:
        """Give each event of the logs in the ledger on some hosts, host by host; nothing without any."""
        if self.ledger.has_logs:
            self._read_use(subjects, None, take)

    def _use_memory(self, subjects: Container[str]) -> "UseMemory | None":
        """Return what is kept of the logs of some hosts; nothing where the ledger has none."""
        mark = self.ledger.mark_of_logs(self.survey)
        hosts = self._with_logs(subjects) if mark is not None else set()
        if mark is None or not hosts:
            return None
        from fidelitas.conclusions.use import UseMemory  # noqa: PLC0415 brings what questions without logs do without

        return UseMemory(self.ledger.stored_answers(), mark, hosts, lambda: self.ledger.is_whole)

    def _read_use(
        self, subjects: Container[str], wanted: "EventFilter | None" = None, take: "Callable[[AttributedEvent], None] | None" = None
    ) -> "Logbook":
        from fidelitas.logbook import EventFilter  # noqa: PLC0415

        with progress("reading the logs of") as report:
            if take is None:
                return self._remembered_logbook(wanted or EventFilter(), report, subjects)
            return self._read_now(wanted or EventFilter(), take, report, subjects)

    def _grants(self, subjects: Container[str]) -> "dict[str, Grants]":
        book = self._read_use(subjects)
        uses = ((subject, book.use_of(subject)) for subject in self.ledger.history_digests(self.survey, subjects, with_logs=True))
        return {subject: use.grants for subject, use in uses if use is not None}

    def _last_logins(self, subjects: Container[str]) -> "dict[tuple[str, str], datetime]":
        latest = self._read_use(subjects).latest
        return {(subject, account): at for subject, one in latest.items() for account, at in one.logins.items()}

    def audit(self, subject: str | None = None, *, findings: bool = False) -> Audit:
        """Return the audit of the evidence in the ledger, of one subject or of all; refuse a subject that is not there.

        Without `findings` only that is read which the holdings of the subject depend on.
        """
        stored = self._stored()
        chosen = self.chosen(stored)
        if subject is not None and subject not in chosen:
            raise unknown_subject(subject, chosen)
        wanted = [subject] if subject is not None else chosen if self.tags else None
        with progress(f"working out {subject or counted(len(chosen), 'subject')}"):
            found = audit(stored, wanted, findings=findings, each=engine_for(self.ledger).judging(stored))
        click.get_current_context().call_on_close(found.keep)
        return found

    def takings(self) -> Takings:
        """Return what hosts take of the directories in the ledger."""
        return takings_of(self._stored())

    def hosts(self, subject: str | None) -> tuple[list[HostRights], tuple[SubjectRights, ...]]:
        """Return the Linux hosts that are asked about, and all that is; refuse another subject."""
        asked = self.audit(subject)
        lost = any(gap.fatal for gap in asked.gaps)
        if subject is not None and not asked.hosts and not lost:
            raise unknown_name("there is no Linux host", subject, [host.subject for host in self.audit().hosts])
        return list(asked.hosts), asked.subjects


def bundle_of_root(root: Path) -> Bundle:
    """Return the evidence of a host whose root folder is given, named after the folder where it does not name itself."""
    bundle = from_this_machine(root, scan=FileScan.NOWHERE, logs=LogScan.NONE).bundle  # sudo policies need neither
    return bundle if bundle.subject else bundle.named(root.absolute().name or "host")


def source_options(function: F) -> F:
    """Add the options that name the evidence of some subjects; they arrive as one `source`."""
    tag = click.option("--tag", "tags", metavar="TAG", multiple=True, help="Only subjects with this tag of the estate; repeatable.")
    return one_source_options(tag(function))


def one_source_options(function: F) -> F:
    """Add the options that name the evidence of one subject; they arrive as one `source`."""

    def wrapped(*args: Any, ledger: str | None, survey_name: str | None, **kwargs: Any) -> Any:
        logs = {name: kwargs.pop(f"log_{name}", None) for name in ("paths", "zone", "name")}
        source = Source(ledger or default_ledger(), survey_name, logs["paths"] or (), logs["name"], logs["zone"])
        source = replace(source, tags=kwargs.pop("tags", ()))
        return function(*args, source=source, **kwargs)

    wrapped.__name__, wrapped.__doc__ = function.__name__, function.__doc__
    wrapped.__dict__.update(function.__dict__)
    survey = click.option(
        "--survey",
        "survey_name",
        metavar="NAME",
        shell_complete=surveys,
        help="Answer from this survey alone, not from the newest evidence: its name, a date, last, or -2 for the second last.",
    )
    return ledger_option(engine_option(survey(wrapped)))  # type: ignore[return-value]


def _note_damage(what: str) -> None:
    """Say what is damaged in the ledger, once, and let the command end with 4 unless it ends worse."""
    said = click.get_current_context().find_root().meta
    noted = said.setdefault("fidelitas.damaged", set())
    if what not in noted:
        noted.add(what)
        say(what)
    said[UNREAD_STATUS] = 4


def ledger_option(function: F) -> F:
    """Add --ledger."""
    return click.option(
        "--ledger",
        metavar="PLACE",
        help="Where surveys are kept: a folder, or postgresql://HOST/DATABASE.  [default: $FIDELITAS_LEDGER, or fidelitas/ledger in the "
        "user's state folder]",
    )(function)


def log_option(function: F) -> F:
    """Add the options that name logs instead of those in the ledger; they arrive with the `source`."""
    paths = click.option(
        "--log", "log_paths", multiple=True, type=click.Path(path_type=Path), metavar="LOG",
        help='Read this log, or folder of logs, not those in the ledger; "-" is standard input; repeatable.',
    )  # fmt: skip
    zone = click.option("--zone", "log_zone", metavar="ZONE", help="Time zone of stamps in LOG that name none, such as Europe/Lisbon.")
    name = click.option(
        "--name", "log_name", metavar="NAME", help="Name of the host that LOG is of.  [default: the one that it names, else this machine's]"
    )
    return paths(zone(name(function)))
