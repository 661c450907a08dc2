"""``fidelitas charter``."""

from collections.abc import Iterable
from pathlib import Path

import click

from fidelitas.audit import Audit, audit
from fidelitas.charter import Clause, Outcome, check_charter, read_charter
from fidelitas.cli.names import unknown_name
from fidelitas.cli.output import Output, format_option
from fidelitas.cli.source import Source, bundle_of_root, source_options
from fidelitas.errors import ReadError
from fidelitas.inquiry import Inquiry
from fidelitas.reports.charter import charter_report
from fidelitas.rights import Holding, HostRights, PrincipalKind
from fidelitas.rights.linux.sudo import Decision
from fidelitas.sources import RootFiles, from_policy_file


@click.group
def command() -> None:
    """Check the estate against the charter: what must be possible, and what must never be."""


@command.command("check")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@click.option(
    "--policy", type=click.Path(dir_okay=False, path_type=Path), metavar="NEW", help="With this main policy in place of each host's own."
)
@click.option("--root", type=click.Path(file_okay=False, path_type=Path), metavar="DIR", help="On the host whose root folder is DIR.")
@click.option("--allow-gaps", is_flag=True, help="Do not exit with 3 because evidence is missing.")
@source_options
@format_option
def check(file: Path, policy: Path | None, root: Path | None, allow_gaps: bool, source: Source, output: Output) -> None:
    """Show which demands of the charter FILE are kept and which are broken.

    \b
        format = 1
        [[must]]                        # or [[never]]
        account = "noor"                # or a list
        on = "tern"                     # a subject, or a list
        as = "root"                     # USER, USER:GROUP or :GROUP
        command = "/usr/bin/systemctl restart tide-ingest"

    With --policy a change is tested before it is made.  Exit status: 1 a demand is broken, else 3 one cannot be decided, else 0.
    """  # noqa: D301 Click wants the character itself
    clauses = charter_of(file)
    bundles = source.bundles() if root is None else [bundle_of_root(root)]
    changed = bundles if policy is None else [from_policy_file(policy, bundle) for bundle in bundles]
    files = None if root is None else RootFiles(root)
    inquiries = {bundle.subject: Inquiry(bundle, files) for bundle in changed}
    found = source.audit() if policy is None and root is None else audit(changed)
    hosts = {host.subject: host for host in found.hosts}
    _refuse_unknown(clauses, found)

    def ask(clause: Clause) -> Decision | str:
        inquiry = inquiries.get(clause.subject)
        if inquiry is None:
            return f'"{clause.subject}" is not a Linux host: a charter can demand commands of such hosts alone'
        return inquiry.decision(clause.account, clause.run_as, clause.command)

    def held(clause: Clause) -> tuple[Holding, ...]:
        host = hosts[clause.subject]
        return tuple(one for one in host.holdings if one.principal.is_called(clause.account)) + _of_all(host)

    results = check_charter(clauses, ask, held)
    output.report(charter_report(results))
    broken = [one for one in results if one.outcome is Outcome.BROKEN]
    unknown = [one for one in results if one.outcome is Outcome.UNKNOWN]
    if broken:
        raise SystemExit(1)
    if unknown and not allow_gaps:
        raise SystemExit(3)


def _of_all(host: HostRights) -> tuple[Holding, ...]:
    """Return what every account of a host holds."""
    return tuple(holding for holding in host.holdings if holding.principal.kind is PrincipalKind.ANY_ACCOUNT)


def _refuse_unknown(clauses: Iterable[Clause], found: Audit) -> None:
    """Refuse a charter that names a subject or an account of which there is no evidence: a never about it would look kept."""
    subjects = [one.subject for one in found.subjects]
    names = {name for one in found.subjects for name in one.names()}
    for clause in clauses:
        where = f"[[{clause.kind.value}]] number {clause.number} of the charter"
        if clause.subject not in subjects:
            raise unknown_name(f"{where}: no subject in the ledger is called", clause.subject, subjects)
        if not any(one.knows(clause.account) for one in found.subjects):
            raise unknown_name(f"{where}: no subject in evidence has an account", clause.account, names)
        user, _, group = (clause.run_as or "").partition(":")
        if user and user not in names and not user.startswith("#"):
            raise unknown_name(f"{where}: no subject in evidence has an account to run as", user, names)
        if group and f"%{group}" not in names and not group.startswith("#"):
            raise unknown_name(
                f"{where}: no subject in evidence has a group to run as", group, (name[1:] for name in names if name[0] == "%")
            )


def charter_of(file: Path) -> tuple[Clause, ...]:
    """Return the clauses of a charter file."""
    return read_charter(_text(file), str(file))


def _text(file: Path) -> str:
    try:
        return file.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise ReadError(f'could not read charter "{file}": {getattr(error, "strerror", None) or error}') from error
