"""``fidelitas survey``."""

from collections.abc import Callable, Sequence
from itertools import chain
from pathlib import Path
from typing import Any

import click

from fidelitas.audit import Audit, audit
from fidelitas.cli.changes import since_last
from fidelitas.cli.engine import engine_for, engine_option
from fidelitas.cli.estate import chosen
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.main import FOUND_STATUS
from fidelitas.cli.output import Output, format_option, say
from fidelitas.cli.progress import progress, rated, watched
from fidelitas.cli.source import default_ledger, ledger_option
from fidelitas.cli.times import DURATION
from fidelitas.engines import cores
from fidelitas.errors import FidelitasError, RequestError
from fidelitas.estate import Estate
from fidelitas.evidence import keep_apart
from fidelitas.findings import Severity
from fidelitas.ledger import Ledger
from fidelitas.platforms import PLATFORMS
from fidelitas.reports.survey import survey_report
from fidelitas.reports.unreached import unreached_lines
from fidelitas.reviewing import ReviewBook
from fidelitas.sources import FileScan, LogScan
from fidelitas.sources.estate_file import estate_at
from fidelitas.sources.ssh_failures import Unreached
from fidelitas.surveying import Asked, Keeping, Manner, Reading, with_access_rules, with_names

# What each kind of server is read by.
_REACHED = {name: row.reach for name, row in PLATFORMS.items() if row.reach is not None}


def server_options(function: Callable[..., Any]) -> Callable[..., Any]:
    """Add an option for each platform that is read over the network."""
    for name, reach in reversed(_REACHED.items()):
        function = click.option(f"--{name}", multiple=True, metavar=reach.metavar, help=reach.help)(function)
    return function


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
@click.option(
    "--access-rules",
    type=click.Path(dir_okay=False),
    metavar="FILE",
    help="With one directory: the configuration (slapd.conf) of the OpenLDAP server that has it.",
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
@engine_option
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
    access_rules: str | None,
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
    if estate_file is None and (tags or only or at_once or resume):
        raise RequestError("--tag, --only, --at-once and --resume are for the hosts of an estate", hint="Name its file with --estate.")
    estate = chosen(estate_at(estate_file), tags, only, estate_file) if estate_file is not None else Estate(hosts=(), servers=())
    asked = [Asked(kind, text) for kind in _REACHED for text in servers[kind]] + [Asked("file", str(file)) for file in files]
    if root is not None or (not asked and estate_file is None):
        asked.insert(0, Asked("host", str(root or "")))
    asked = with_names(with_access_rules(asked, access_rules), names) + [Asked(one.kind, one.uri, one.name) for one in estate.servers]
    reading = Reading(
        Manner(
            files=FileScan[scan or "EVERYWHERE"],
            logs=LogScan[logs or "CONCERNING"],
            deadline=deadline,
            password=click.prompt("Password", hide_input=True, err=True) if ask_password else None,
        )
    )
    notes: list[str] = []
    kept_in = Ledger(ledger or default_ledger())
    engine = engine_for(kept_in)
    with Keeping(kept_in, estate.tags_by_name(), say, resume=resume) as keeping:
        hosts = [one for one in estate.hosts if one.name not in keeping.arrived]
        with progress("reading") as report:
            far = reading.far(hosts, at_once or 8 * cores(), estate.ssh_config)
            each = reading.each(watched(asked, report, str, len(asked)))
            collected = chain(rated(far, report, len(hosts), lambda: len(reading.failures)), each)
            try:
                keeping.take(keep_apart(collected, notes))
            except KeyboardInterrupt:
                far.close()
                raise (keeping.interrupted() if estate_file is not None else KeyboardInterrupt) from None
        if not keeping.arrived:
            _tell_failures(reading.failures[1:])
            raise (reading.failures or [_nothing_declared(estate_file)])[0]
        survey = keeping.finish()
        with progress("working out who holds what"):
            audited = audit(keeping.stored, each=engine.judging(keeping.stored))
        show(audited, survey.name if survey else None, output, keeping.ledger, full=full, fail_on=fail_on)
    for note in (*notes, *(survey.notes if survey else ())):
        say(note)
    if survey:
        say(f'kept as survey {survey.name} in ledger "{keeping.ledger}"')
    _tell_failures(reading.failures)
    if reading.failures:
        raise SystemExit(reading.failures[0].exit_status)


def _nothing_declared(estate_file: Path | None) -> RequestError:
    return RequestError(f'estate "{estate_file}" declares no subject', hint="docs/estate.md describes the file.")


def _tell_failures(failures: Sequence[FidelitasError]) -> None:
    """Say what could not be read: hosts by cause, with what to do, and everything else by itself."""
    unreached = [one for one in failures if isinstance(one, Unreached)]
    for line in unreached_lines((one.name, one.failure.cause, one.detail, one.hint) for one in unreached):
        say(line)
    for failure in failures:
        if not isinstance(failure, Unreached):
            say(str(failure))


def show(found: Audit, survey: str | None, output: Output, ledger: Ledger, *, full: bool = False, fail_on: str = "never") -> None:
    """Print an audit: each subject in a line, the worst findings, what changed since the last survey; all of it with `full`.

    End with 1 at a finding of `fail_on` or worse.
    """
    since: Sequence[str] = ()
    try:
        since = since_last(ledger, survey, found) if survey is not None else ()
    except FidelitasError as error:  # an earlier survey that is damaged costs the comparison alone
        say(f"what changed since the last survey is not shown: {error}")
    reviewed = ReviewBook(ledger).progress(found.subjects) if survey is not None else []
    output.report(survey_report(found.subjects, found.findings, survey, full=full, since=[*since, *reviewed]), of=found.subjects)
    tell_gaps(found.subjects)
    if fail_on != "never" and any(finding.severity <= Severity[fail_on.upper()] for finding in found.findings):
        click.get_current_context().find_root().meta[FOUND_STATUS] = 1
