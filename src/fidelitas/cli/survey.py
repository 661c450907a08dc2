"""``fidelitas survey``."""

from datetime import UTC, datetime
from pathlib import Path

import click

from fidelitas.audit import Audit, audit
from fidelitas.cli.options import Output, default_ledger, format_option, ledger_option, say, tell_gaps
from fidelitas.errors import FidelitasError, LedgerError, RequestError
from fidelitas.evidence import may_name_a_subject
from fidelitas.ledger import Ledger
from fidelitas.reports.coverage import coverage_table, gap_lines
from fidelitas.reports.findings import findings_blocks, findings_table, tally
from fidelitas.reports.holders import Filter, holders_table, selected
from fidelitas.reports.survey import subject_block, survey_document
from fidelitas.rights import RightKind
from fidelitas.sources import FileScan, LogScan, from_file, from_this_machine
from fidelitas.sources.collected import Collected

# What the table of a survey shows; other rights are counted.
_FURTHEST = (RightKind.ROOT, RightKind.ADMIN, RightKind.DB_SUPERUSER, RightKind.DB_HOST_ESCAPE, RightKind.DIRECTORY_ADMIN)


@click.command
@click.argument("files", nargs=-1, metavar="[FILE]...", type=click.Path(path_type=Path))
@click.option(
    "--root",
    type=click.Path(file_okay=False, path_type=Path),
    metavar="DIR",
    help="Read the host whose root folder is DIR: a mounted image, a chroot.",
)
@click.option(
    "--postgresql",
    metavar="PARAMETERS",
    help="Read the PostgreSQL server of these connection parameters: postgresql://auditor@db.example/postgres, or service=NAME.",
)
@click.option(
    "--mariadb", metavar="URI", help="Read the MariaDB or MySQL server at mariadb://auditor@db.example, or mariadb://root@/?socket=PATH."
)
@click.option(
    "--directory", metavar="URI", help="Read the directory at ldaps://dc.example/dc=example,dc=org?bind=cn=auditor,dc=example,dc=org."
)
@click.option("--ask-password", is_flag=True, help="Ask for the database account's password, rather than take it from the usual files.")
@click.option("--name", metavar="NAME", help="Call the subject NAME, not what it calls itself.")
@click.option("--one-file-system", "scan", flag_value="ONE_FILE_SYSTEM", help="Look for setuid files on the root file system alone.")
@click.option("--no-file-scan", "scan", flag_value="NOWHERE", help="Do not look for setuid files and capabilities; that is a gap.")
@click.option("--whole-logs", "logs", flag_value="WHOLE", help="Copy all lines of logs, not those alone that concern privilege.")
@click.option("--no-logs", "logs", flag_value="NONE", help="Copy no logs.")
@ledger_option
@format_option
def command(
    files: tuple[Path, ...],
    root: Path | None,
    postgresql: str | None,
    mariadb: str | None,
    directory: str | None,
    name: str | None,
    scan: str | None,
    logs: str | None,
    ledger: Path | None,
    output: Output,
    *,
    ask_password: bool,
) -> None:
    """Read hosts, database servers or a directory into the ledger and say who holds elevated rights, by which rule.

    With no argument this machine is read.  FILE is what the probe printed on another host (see "fidelitas probe").  Nothing is changed on
    what is read.  Run it as root: what an ordinary user cannot read is listed as a gap.
    """
    if sum((root is not None, bool(files), postgresql is not None, mariadb is not None, directory is not None)) > 1:
        raise RequestError(
            "--root, --postgresql, --mariadb, --directory and files cannot be surveyed in one go", hint="Run survey for each."
        )
    if name is not None and (len(files) > 1 or not may_name_a_subject(name)):
        raise RequestError(f'"{name}" cannot name the subject' if len(files) < 2 else "--name fits one subject only")
    failures: list[FidelitasError] = []
    if postgresql is not None or mariadb is not None or directory is not None:
        found = [_server(postgresql, mariadb, directory, name, ask_password=ask_password)]
    elif files:
        found = _files(files, failures, name)
    else:
        found = [from_this_machine(root, scan=FileScan[scan or "EVERYWHERE"], logs=LogScan[logs or "CONCERNING"])]
    collected = [_named(one, name) for one in found]
    if not collected:
        raise failures[0]
    path = ledger or default_ledger()
    survey = _keep(path, collected)
    show(audit(found.bundle for found in collected), survey, output)
    if survey:
        say(f'kept as survey {survey} in ledger "{path}"')
    for failure in failures:
        say(str(failure))
    if failures:
        raise SystemExit(failures[0].exit_status)


def _server(postgresql: str | None, mariadb: str | None, directory: str | None, name: str | None, *, ask_password: bool) -> Collected:
    """Read a database server or a directory; its driver is loaded for this alone."""
    password = click.prompt("Password", hide_input=True, err=True) if ask_password else None
    if postgresql is not None:
        from fidelitas.sources.postgresql import from_postgresql  # noqa: PLC0415

        return from_postgresql(postgresql, name, password)
    if directory is not None:
        from fidelitas.sources.directory import from_directory  # noqa: PLC0415

        return from_directory(directory, name, password)
    from fidelitas.sources.mariadb import from_mariadb  # noqa: PLC0415

    return from_mariadb(mariadb or "", name, password)


def _files(files: tuple[Path, ...], failures: list[FidelitasError], name: str | None) -> list[Collected]:
    """Read every file that can be read; one that cannot costs only itself."""
    collected = []
    for file in files:
        try:
            collected.append(from_file(file, name))
        except FidelitasError as error:
            failures.append(error)
    return collected


def _named(found: Collected, name: str | None) -> Collected:
    bundle = found.bundle.named(name) if name else found.bundle
    if not bundle.subject:
        raise RequestError("the evidence does not tell what the host is called", hint="Say it with --name.")
    return Collected(bundle=bundle, archive=found.archive)


def _keep(path: Path, collected: list[Collected]) -> str | None:
    """Store the survey; an answer that cannot be kept is still an answer."""
    try:
        return Ledger(path).add(((found.bundle, found.archive) for found in collected), datetime.now(UTC)).name
    except LedgerError as error:
        say(f"{error}. {error.hint} The survey is not kept.")
        return None


def show(found: Audit, survey: str | None, output: Output) -> None:
    """Print an audit: each host, its holders and findings."""
    if output.form == "json":
        output.json(survey_document(found.subjects, found.findings, survey))
    elif output.form != "table":
        for table in (holders_table(selected(found.subjects, Filter())), findings_table(found.findings), coverage_table(found.subjects)):
            output.table(table, dict)
            output.text("\n")
    else:
        output.blocks([subject_block(one) for one in found.subjects])
        output.text("\n")
        every = selected(found.subjects, Filter())
        furthest = [row for row in every if row[1].right.kind in _FURTHEST]
        output.table(holders_table(furthest), dict)
        more = len(every) - len(furthest)
        output.text(f"and {more} holdings of lesser rights: see fidelitas holders\n" if more else "")
        output.text(f"\n{tally(found.findings)}\n\n")
        if found.findings:
            output.blocks(findings_blocks(found.findings))
            output.text("\n")
    for line in gap_lines(found.gaps):
        say(line)
    tell_gaps(found.subjects)
