"""``fidelitas charter``."""

import os
from collections.abc import Sequence
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

import click

from fidelitas.audit import audit
from fidelitas.charter import (
    CharterState,
    Clause,
    Outcome,
    Sanction,
    Scope,
    charter_state,
    check_charter,
    decisive,
    draft,
    read_charter,
    review,
    unknown_in_clauses,
)
from fidelitas.cli.charter_file import CharterInUse, charter_in_use, charter_text, latest_day, people_option, refuse_unknown
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.names import unknown_name
from fidelitas.cli.output import Output, format_option, say
from fidelitas.cli.people import read_people
from fidelitas.cli.source import Source, bundle_of_root, source_options
from fidelitas.errors import ReadError, RequestError
from fidelitas.findings import Finding
from fidelitas.inquiry import Inquiry
from fidelitas.reports.charter import charter_report
from fidelitas.reports.numbers import counted
from fidelitas.rights import Holding, PrincipalKind, SubjectRights
from fidelitas.rights.linux.sudo import Decision
from fidelitas.sources import RootFiles, from_policy_file

_FILE = click.Path(dir_okay=False, path_type=Path)


@click.group
def command() -> None:
    """Check the estate against the charter: what access is sanctioned, what must be possible, and what must never be."""


@command.command("check")
@click.argument("file", type=_FILE)
@click.option("--policy", type=_FILE, metavar="NEW", help="With this main policy in place of each host's own.")
@click.option("--root", type=click.Path(file_okay=False, path_type=Path), metavar="DIR", help="On the host whose root folder is DIR.")
@people_option
@click.option("--at", "day", metavar="DATE", help="On this day.  [default: that of the newest evidence]")
@click.option(
    "--within",
    "soon",
    type=click.IntRange(0, 36_500),
    default=30,
    show_default=True,
    metavar="DAYS",
    help="An entry that ends within DAYS days is due.",
)
@click.option("--strict", is_flag=True, help="Exit with 1 at anything that is not sanctioned, too.")
@click.option("--allow-gaps", is_flag=True, help="Do not exit with 3 because evidence is missing.")
@source_options
@format_option(issues=True)
def check(
    file: Path,
    policy: Path | None,
    root: Path | None,
    mapped: Path | None,
    day: str | None,
    soon: int,
    source: Source,
    output: Output,
    *,
    strict: bool,
    allow_gaps: bool,
) -> None:
    """Show which demands of the charter FILE are broken, what is held without being sanctioned, and which entries are due.

    docs/charter.md describes the file: [[must]] and [[never]], [[warrant]], [[segregation]], [[exception]].

    With --policy a change is tested before it is made.  Exit status: 1 a demand is broken or duties are not kept apart, with --strict also
    where something is not sanctioned; else 3 a demand cannot be decided, else 0.
    """
    bundles = source.bundles() if root is None else [bundle_of_root(root)]
    changed = bundles if policy is None else [from_policy_file(policy, bundle) for bundle in bundles]
    files = None if root is None else RootFiles(root)
    takings = source.takings() if root is None else None
    inquiries = {bundle.subject: Inquiry(bundle, files, takings=takings) for bundle in changed}
    whole = policy is None and root is None
    found = source.audit(findings=True) if whole else audit(changed)
    tags = source.tags_of() if root is None else {one.subject: () for one in found.subjects}
    use = charter_in_use(file, mapped, tags, found.subjects, _day(day))
    refuse_unknown(unknown_in_clauses(use.charter.clauses, found.subjects))
    hosts = {one.subject: one for one in found.subjects}

    def ask(clause: Clause) -> Decision | str:
        inquiry = inquiries.get(clause.subject)
        if inquiry is None:
            return f'"{clause.subject}" is not a Linux host: a charter can demand commands of such hosts alone'
        accounts = hosts[clause.subject].accounts_meant(clause.account)
        return decisive(clause, [inquiry.decision(account, clause.run_as, clause.command) for account in accounts])

    def held(clause: Clause) -> tuple[Holding, ...]:
        one = hosts[clause.subject]
        return one.holdings_of(clause.account) + _of_all(one)

    results = check_charter(use.charter.clauses, ask, held)
    findings = [*found.findings, *source.use_findings(set(hosts))] if use.charter.exceptions and whole else []
    state = _state(use, found.subjects, findings, timedelta(days=soon))
    output.report(charter_report(results, state), of=found.subjects)
    tell_gaps(found.subjects)
    broken = any(one.outcome is Outcome.BROKEN for one in results) or bool(state.conflicts)
    unsanctioned = bool(state.of(Sanction.NO) or state.of(Sanction.BROADER)) or not use.charter.warrants
    if broken or (strict and unsanctioned):
        raise SystemExit(1)
    if any(one.outcome is Outcome.UNKNOWN for one in results) and not allow_gaps:
        raise SystemExit(3)


def _state(use: CharterInUse, subjects: Sequence[SubjectRights], findings: Sequence[Finding], soon: timedelta) -> CharterState:
    holdings = [holding for one in subjects for holding in one.own_holdings]
    reviewed = review(findings, use.charter.exceptions, use.scope, use.day)
    return charter_state(use.charter, holdings, reviewed, use.scope, use.day, soon)


@command.command("draft")
@click.argument("file", required=False, type=_FILE)
@people_option
@click.option("--update", is_flag=True, help="Add warrants to FILE for what it does not sanction yet; all else in it stays.")
@source_options
def draft_command(file: Path | None, mapped: Path | None, source: Source, *, update: bool) -> None:
    """Write a first charter from what is held today to FILE, or print it (also for -): equal holdings together, to be read and signed.

    With --update the comments, the order and the decisions in FILE stay as they are, and what it does not sanction is added at its end.
    """
    file = None if file == Path("-") else file
    if update and file is None:
        raise RequestError("which charter is to be updated?", hint="Name its file.")
    if file is not None and file.exists() and not update:
        raise RequestError(f'"{file}" exists', hint="Add --update to add to it what it does not sanction, or name another file.")
    subjects = source.audit().subjects
    holdings = [holding for one in subjects for holding in one.own_holdings]
    # Brings a library that nothing else needs.
    from fidelitas.charter.edit import new_charter, updated_charter  # noqa: PLC0415

    if update and file is not None:
        use = charter_in_use(file, mapped, source.tags_of(), subjects)
        wanted = [one.holding for one in map(use.sanctions.judge, holdings) if one.sanction is not Sanction.YES]
        drafted = draft(wanted, use.scope)
        text = updated_charter(charter_text(file), drafted, use.day)
    else:
        drafted = draft(holdings, Scope(source.tags_of(), read_people(mapped) if mapped is not None else ()))
        text = new_charter(drafted, latest_day(subjects))
    if file is None:
        click.echo(text, nl=False)
    else:
        _write(file, text)
        written = f"{counted(len(drafted), 'warrant')} {'was' if len(drafted) == 1 else 'were'} written"
        say(f'{written} to "{file}": read them, strike what should not be, and say why the rest is held')
    weak = sum(not one.granted for one in holdings)
    if weak:
        say(f"{weak} holdings that can be obtained by a weakness are not in it: they are to be mended, not signed (fidelitas findings)")
    tell_gaps(subjects)


@command.command("accept")
@click.argument("file", type=_FILE)
@click.argument("key")
@click.option("--reason", required=True, help="Why it is accepted.")
@click.option("--until", metavar="DATE", help="The last day on which it is.")
@click.option("--owner", default="", metavar="NAME", help="Who has decided so.")
@source_options
def accept(file: Path, key: str, reason: str, until: str | None, owner: str, source: Source) -> None:
    """Add an exception for the finding KEY to the charter FILE: it is counted and not listed, until it expires.

    "fidelitas findings --each" lists the keys.
    """
    found = source.audit(findings=True)
    every = source.every_finding(found)
    finding = next((one for one in every if one.key == key), None)
    if finding is None:
        raise unknown_name("there is no finding with the key", key, (one.key for one in every))
    from fidelitas.charter.edit import with_exception  # noqa: PLC0415

    text = charter_text(file)
    if any(one.key == key for one in read_charter(text, str(file)).exceptions):
        raise RequestError(f'charter "{file}" has an exception for {key}', hint="Change it there.")
    what = f"{finding.severity} {finding.check} on {finding.subject}: {finding.message}"
    _write(file, with_exception(text, key, what, reason, owner, _day(until)))
    say(f'"{file}" now accepts {finding.check} on {finding.subject}' + (f" until {until}" if until else ", without an end"))


def _write(file: Path, text: str) -> None:
    """Write a charter whole, or not at all: people have put their decisions into it."""
    target = file.resolve()
    draft = target.with_name(f".{target.name}.{os.getpid()}")
    try:
        mode = target.stat().st_mode & 0o777 if target.exists() else 0o644
        with os.fdopen(os.open(draft, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, mode), "w", encoding="utf-8") as stream:
            os.fchmod(stream.fileno(), mode)
            stream.write(text)
        draft.replace(target)
    except OSError as error:
        draft.unlink(missing_ok=True)
        raise ReadError(f'could not write charter "{file}": {error.strerror or error}') from error


def _day(text: str | None) -> date | None:
    if text is None:
        return None
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise RequestError(f'"{text}" is not a date such as {datetime.now(UTC).date()}') from None


def _of_all(one: SubjectRights) -> tuple[Holding, ...]:
    """Return what every account of a host holds."""
    return tuple(holding for holding in one.holdings if holding.principal.kind is PrincipalKind.ANY_ACCOUNT)
