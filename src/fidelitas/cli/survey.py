"""``fidelitas survey``."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from functools import partial
from itertools import chain
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any, Self, cast

import click

from fidelitas.audit import Audit, audit
from fidelitas.cli.cores import cores
from fidelitas.cli.estate import chosen
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.main import FOUND_STATUS
from fidelitas.cli.output import Output, format_option, say
from fidelitas.cli.progress import progress, rated, watched
from fidelitas.cli.source import default_ledger, ledger_option
from fidelitas.cli.times import DURATION
from fidelitas.errors import FidelitasError, LedgerError, ReadError, RequestError
from fidelitas.estate import Estate
from fidelitas.evidence import is_valid_subject_name, keep_apart
from fidelitas.findings import Severity
from fidelitas.ledger import Ledger, StoredEvidence, Survey
from fidelitas.platforms import PLATFORMS, load
from fidelitas.reports.numbers import counted
from fidelitas.reports.survey import survey_report
from fidelitas.reports.unreached import unreached_lines
from fidelitas.sources import FileScan, LogScan, from_file, from_this_machine
from fidelitas.sources.bounded import read_within
from fidelitas.sources.collected import Collected
from fidelitas.sources.estate_file import estate_at
from fidelitas.sources.file import DumpReader
from fidelitas.sources.many import read_many
from fidelitas.sources.ssh import SshReader
from fidelitas.sources.ssh_failures import Unreached
from fidelitas.trouble import told

if TYPE_CHECKING:
    from fidelitas.ledger.draft import Draft

# What each kind of server is read by.
_REACHED = {name: row.reach for name, row in PLATFORMS.items() if row.reach is not None}


def server_options(function: Callable[..., Any]) -> Callable[..., Any]:
    """Add an option for each platform that is read over the network."""
    for name, reach in reversed(_REACHED.items()):
        function = click.option(f"--{name}", multiple=True, metavar=reach.metavar, help=reach.help)(function)
    return function


def _dumps() -> list[DumpReader]:
    """Return the forms of files other than bundles; what reads one is loaded when a file is of it."""
    rows = (row.dump for row in PLATFORMS.values() if row.dump is not None)
    return [(dump.recognise, partial(_read_dump, dump.source)) for dump in rows]


def _read_dump(source: str, content: bytes, name: str) -> Collected:
    return cast(Collected, load(source)(content, name))


@click.command
@click.argument("files", nargs=-1, metavar="[FILE]...", type=click.Path(path_type=Path))
@click.option(
    "--root",
    type=click.Path(file_okay=False, path_type=Path),
    metavar="DIR",
    help="Read the host whose root folder is DIR: a mounted image, a chroot.",
)
@server_options
@click.option(
    "--estate",
    "estate_file",
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE",
    help='Read the hosts and servers that FILE declares (see "fidelitas estate").',
)
@click.option("--tag", "tags", metavar="TAG", multiple=True, help="With --estate: only subjects with this tag; repeatable.")
@click.option("--only", metavar="NAME", multiple=True, help="With --estate: only this subject; repeatable.")
@click.option(
    "--at-once",
    type=click.IntRange(1, 1000),
    metavar="N",
    help="With --estate: read N hosts at a time; by default eight for each core.",
)
@click.option("--resume", is_flag=True, help="With --estate: complete the last survey, which was interrupted: read what had not arrived.")
@click.option("--ask-password", is_flag=True, help="Ask for the database account's password, rather than take it from the usual files.")
@click.option(
    "--name",
    "names",
    metavar="[FILE=]NAME",
    multiple=True,
    help="Call the subject NAME, not what it calls itself; with several subjects, the one of FILE. Repeatable.",
)
@click.option("--one-file-system", "scan", flag_value="ONE_FILE_SYSTEM", help="Look for setuid files on the root file system alone.")
@click.option("--no-file-scan", "scan", flag_value="NOWHERE", help="Do not look for setuid files and capabilities; that is a gap.")
@click.option("--whole-logs", "logs", flag_value="WHOLE", help="Copy all lines of logs, not those alone that concern privilege.")
@click.option("--no-logs", "logs", flag_value="NONE", help="Copy no logs.")
@click.option(
    "--deadline",
    type=DURATION,
    default="30m",
    show_default=True,
    help="How long to read one subject: 90s, 30m, 2h. What was not read by then is a gap.",
)
@click.option("--full", is_flag=True, help="Every holding and finding, not a summary.")
@click.option(
    "--fail-on",
    type=click.Choice([*map(str, Severity), "never"]),
    default="never",
    show_default=True,
    help="Exit with 1 at a finding of this severity or worse.",
)
@ledger_option
@format_option
def command(
    files: tuple[Path, ...],
    root: Path | None,
    names: tuple[str, ...],
    scan: str | None,
    logs: str | None,
    deadline: float,
    fail_on: str,
    ledger: str | None,
    output: Output,
    *,
    estate_file: Path | None,
    tags: tuple[str, ...],
    only: tuple[str, ...],
    at_once: int | None,
    resume: bool,
    ask_password: bool,
    full: bool,
    **servers: tuple[str, ...],
) -> None:
    """Read hosts, database servers or directories into the ledger and say who holds elevated rights, by which rule.

    With no argument this machine is read.  FILE is what a probe printed elsewhere (see "fidelitas probe"), or LDIF of a directory.  Nothing
    is changed on what is read; a subject that cannot be read costs only itself.  Run it as root: what an ordinary user cannot read is
    listed as a gap.
    """
    asked: list[tuple[str, str | Path]] = [(kind, text) for kind in _REACHED for text in servers[kind]]
    asked += [("file", file) for file in files]
    if estate_file is None and (tags or only or at_once or resume):
        raise RequestError("--tag, --only, --at-once and --resume are for the hosts of an estate", hint="Name its file with --estate.")
    estate = chosen(estate_at(estate_file), tags, only, estate_file) if estate_file is not None else Estate(hosts=(), servers=())
    if root is not None or (not asked and estate_file is None):
        asked.insert(0, ("host", root or ""))
    called = _names(names, asked) if asked else {}
    asked += [(one.kind, one.uri) for one in estate.servers]
    called |= {one.uri: one.name for one in estate.servers if one.name}
    password = click.prompt("Password", hide_input=True, err=True) if ask_password else None
    file_scan, log_scan = FileScan[scan or "EVERYWHERE"], LogScan[logs or "CONCERNING"]
    host = partial(from_this_machine, scan=file_scan, logs=log_scan, deadline=deadline)
    reader = SshReader(arguments=[*file_scan.arguments, *log_scan.arguments], deadline=deadline, config=estate.ssh_config)
    failures: list[FidelitasError] = []
    notes: list[str] = []
    with _Keeping(Ledger(ledger or default_ledger()), estate.tags_by_name(), resume=resume) as keeping:
        hosts = [one for one in estate.hosts if one.name not in keeping.arrived]
        with progress("reading") as report:
            each = watched(asked, report, lambda one: str(one[1]) or "this machine", len(asked))
            far = read_many(hosts, reader.read, at_once or 8 * cores(), lambda _, error: failures.append(error), reader.stop)
            collected = chain(
                rated(far, report, len(hosts), lambda: len(failures)), _each(each, called, password, host, deadline, failures)
            )
            try:
                keeping.take(keep_apart(collected, notes))
            except KeyboardInterrupt:
                far.close()
                if estate_file is None:
                    raise
                raise keeping.interrupted() from None
        if not keeping.arrived and not failures:
            raise RequestError(f'estate "{estate_file}" declares no subject', hint="docs/estate.md describes the file.")
        if not keeping.arrived:
            _tell_failures(failures[1:])
            raise failures[0]
        survey = keeping.finish()
        with progress("working out who holds what"):
            audited = audit(keeping.stored)
        show(audited, survey.name if survey else None, output, full=full, fail_on=fail_on)
    for note in (*notes, *(survey.notes if survey else ())):
        say(note)
    if survey:
        say(f'kept as survey {survey.name} in ledger "{keeping.ledger}"')
    _tell_failures(failures)
    if failures:
        raise SystemExit(failures[0].exit_status)


def _tell_failures(failures: Sequence[FidelitasError]) -> None:
    """Say what could not be read: hosts by cause, with what to do, and everything else by itself."""
    unreached = [one for one in failures if isinstance(one, Unreached)]
    for line in unreached_lines((one.name, one.failure.cause, one.detail, one.hint) for one in unreached):
        say(line)
    for failure in failures:
        if not isinstance(failure, Unreached):
            say(str(failure))


def _each(
    asked: Iterable[tuple[str, str | Path]],
    called: Mapping[str, str],
    password: str | None,
    host: Callable[[Path | None], Collected],
    deadline: float,
    failures: list[FidelitasError],
) -> Iterator[Collected]:
    """Read every subject that can be read; one that cannot costs only itself."""
    for kind, what in asked:
        name = called.get(str(what))
        try:
            if kind == "host":
                found = host(Path(what) if what else None)
            elif kind == "file":
                found = from_file(Path(what), name, _dumps())
            else:
                read = partial(load(_REACHED[kind].source), str(what), name, password, deadline)
                found = read_within(deadline, read, str(what))
            yield _named(found, name)
        except FidelitasError as error:
            failures.append(error)
        except Exception as error:  # noqa: BLE001 one subject costs only itself
            failures.append(ReadError(f'internal error while reading "{what or "this machine"}" (please report): {told(error)}'))


def _names(names: Sequence[str], asked: Sequence[tuple[str, str | Path]]) -> dict[str, str]:
    """Return the names that were given, by what each is for: ``FILE=NAME``, or ``NAME`` for the only subject."""
    called: dict[str, str] = {}
    subjects = [str(what) for _, what in asked]
    for text in names:
        what, sign, name = text.rpartition("=")
        if not sign or what not in subjects:
            what, name = subjects[0], text
            if len(asked) > 1:
                raise RequestError(
                    f'--name "{text}" does not say which subject it is for', hint="With several subjects write --name FILE=NAME."
                )
        if not is_valid_subject_name(name):
            raise RequestError(f'"{name}" cannot name the subject')
        called[what] = name
    return called


def _named(found: Collected, name: str | None) -> Collected:
    bundle = found.bundle.named(name) if name else found.bundle
    if not bundle.subject:
        raise RequestError("the evidence does not contain the name of the host", hint="Say it with --name.")
    return Collected(bundle=bundle, archive=found.archive)


class _Keeping:
    """Where what is read goes, piece by piece: the ledger; from the first failure to write on, a folder that is gone afterwards.

    An answer that cannot be kept is still an answer.
    """

    def __init__(self, ledger: Ledger, tags: Mapping[str, Sequence[str]], *, resume: bool = False) -> None:
        self.ledger, self._tags, self._resume = ledger, tags, resume
        self._draft: Draft | None = None
        self._beside: TemporaryDirectory[str] | None = None

    def __enter__(self) -> Self:
        try:
            self._draft = self.ledger.unfinished() if self._resume else self.ledger.draft()
        except LedgerError as error:
            self._fall_back(error)
        if self._draft is None:
            raise RequestError(f'no survey in ledger "{self.ledger}" was interrupted', hint="Survey without --resume.")
        return self

    def __exit__(self, *_: object) -> None:
        if self._beside is not None:
            self._beside.cleanup()

    @property
    def stored(self) -> StoredEvidence:
        """What was stored so far, to be read back."""
        return self._open_draft.stored

    @property
    def arrived(self) -> Sequence[str]:
        """The subjects of which evidence was stored so far."""
        return self.stored.names

    def take(self, collected: Iterable[Collected]) -> None:
        """Store what is collected, one piece at a time."""
        for piece in collected:
            tags = self._tags.get(piece.subject, ())
            try:
                self._open_draft.add(piece.bundle, tags)
            except LedgerError as error:
                self._fall_back(error)
                self._open_draft.add(piece.bundle, tags)

    def finish(self) -> Survey | None:
        """Write down the survey, if all of it could be stored."""
        if self._beside is not None:
            return None
        try:
            return self._open_draft.finish(datetime.now(UTC))
        except LedgerError as error:
            say(f"{error}. {error.hint} The survey is not kept.")
            return None

    def interrupted(self) -> ReadError:
        """Return what to say when somebody interrupts: what has arrived is kept."""
        return ReadError(
            f"interrupted: {counted(len(self.arrived), 'subject')} had arrived", hint="Complete the survey: the same command with --resume."
        )

    @property
    def _open_draft(self) -> "Draft":
        if self._draft is None:
            raise RuntimeError("nothing is kept before it is entered")
        return self._draft

    def _fall_back(self, error: LedgerError) -> None:
        """Go on in a folder of its own; what had been stored before is carried there."""
        if self._beside is not None:
            raise error
        say(f"{error}. {error.hint} The survey is not kept.")
        self._beside = TemporaryDirectory(prefix="fidelitas-")
        draft = Ledger(self._beside.name).draft()
        if self._draft is not None:
            stored = self._draft.stored
            for name in stored.names:
                draft.add(stored.evidence(name), stored.tags()[name])
        self._draft = draft


def show(found: Audit, survey: str | None, output: Output, *, full: bool = False, fail_on: str = "never") -> None:
    """Print an audit: each subject in a line, the worst findings; all of it with `full`.  End with 1 at a finding of `fail_on` or worse."""
    output.report(survey_report(found.subjects, found.findings, survey, full=full), of=found.subjects)
    tell_gaps(found.subjects)
    if fail_on != "never" and any(finding.severity <= Severity[fail_on.upper()] for finding in found.findings):
        click.get_current_context().find_root().meta[FOUND_STATUS] = 1
