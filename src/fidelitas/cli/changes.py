"""``fidelitas changes``."""

from collections.abc import Collection, Sequence
from pathlib import Path

import click
from msgspec.structs import replace

from fidelitas.audit import Audit, audit
from fidelitas.changes import EstateChanges, changes_between
from fidelitas.charter import Sanctions
from fidelitas.cli.charter_file import charter_in_use, charter_options
from fidelitas.cli.complete import subjects, surveys
from fidelitas.cli.engine import engine_for, engine_option
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.names import unknown_subject
from fidelitas.cli.output import Output, format_option
from fidelitas.cli.progress import progress
from fidelitas.cli.source import Source, default_ledger, ledger_option
from fidelitas.engines import on_all_cores
from fidelitas.findings import Severity
from fidelitas.ledger import Ledger, StoredEvidence
from fidelitas.reports.change_causes import Window
from fidelitas.reports.changes import Compared, changes_report, since_lines
from fidelitas.sources.estate_file import estate_at
from fidelitas.surveying import States, states_of

__all__ = ["command", "compared", "show_changes", "since_last"]

_FAIL_ON = ("gained", "anything", *map(str, Severity), "never")


@click.command
@click.option(
    "--since", metavar="SURVEY", shell_complete=surveys, help="Since this survey: its name, a date, last, or -2.  [default: the one before]"
)
@click.option("--until", metavar="SURVEY", shell_complete=surveys, help="Up to this survey.  [default: the last]")
@click.option("--on", "names", multiple=True, shell_complete=subjects, metavar="SUBJECT", help="Only on this subject; repeatable.")
@click.option("--tag", "tags", metavar="TAG", multiple=True, help="Only subjects with this tag of the estate; repeatable.")
@click.option(
    "--estate", "estate_file", type=click.Path(dir_okay=False, path_type=Path), metavar="FILE",
    help="The file of the estate: subjects that it does not name any more are gone.",
)  # fmt: skip
@click.option(
    "--fail-on", type=click.Choice(_FAIL_ON), default="gained", show_default=True,
    help="Exit with 1 when someone gained a right; at any change; or at a new finding of this severity or worse.",
)  # fmt: skip
@charter_options
@ledger_option
@engine_option
@format_option(issues=True)
def command(
    since: str | None,
    until: str | None,
    names: tuple[str, ...],
    tags: tuple[str, ...],
    estate_file: Path | None,
    fail_on: str,
    charter: Path | None,
    mapped: Path | None,
    ledger: str | None,
    output: Output,
) -> None:
    """Show what changed since the last survey: who gained or lost which right, and why; findings, accounts and subjects.

    Each change of a right has its cause: the membership, rule, key, grant or file that changed, from what to what, and by whose doing where
    a log says so.  A subject that was not surveyed again counts as it was.  Both states are judged by the same rules.

    With --charter, rights that it sanctions are marked, and gaining them does not count.

    Exit status: 1 as --fail-on says, else 4 or 3 where evidence is missing, else 0.
    """
    source = Source(ledger or default_ledger(), until, tags=tags)
    found, sanctions = show_changes(source, since, until, names, output, estate_file, charter, mapped)
    if _fails(found, fail_on, sanctions):
        raise SystemExit(1)
    if found.less_read:
        raise SystemExit(3)


def show_changes(
    source: Source,
    since: str | None,
    until: str | None,
    names: Sequence[str],
    output: Output,
    estate_file: Path | None = None,
    charter: Path | None = None,
    mapped: Path | None = None,
) -> tuple[EstateChanges, Sanctions | None]:
    """Print what changed from one survey to another, and return it, with the warrants of the charter that is honoured."""
    states = states_of(source.ledger, since, until)
    chosen = _chosen(source, states, names)
    gone = [] if estate_file is None else sorted(set(chosen) - set(estate_at(estate_file).names))
    before, after, found = compared(states, chosen, gone)
    window = _window(source, states, before, after, found)
    sanctions = None if charter is None else charter_in_use(charter, mapped, states.new.tags(), after.subjects, whole=False).sanctions
    compared_states = Compared(_survey(states.before), _survey(states.after), window, sanctions=sanctions)
    output.report(changes_report(found, compared_states), of=after.subjects)
    tell_gaps(after.subjects)
    return found, sanctions


def compared(states: States, names: Collection[str], gone: Collection[str] = ()) -> tuple[Audit, Audit, EstateChanges]:
    """Return the audits of some subjects in two states, and what changed between them."""
    with progress("comparing"):
        before, after = (_audit(stored, names) for stored in (states.old, states.new))
        found = changes_between(
            before,
            after,
            silent=states.silent & set(names),
            gone=gone,
            other=states.other,
            each=on_all_cores,
            store=states.new.stored_answers(),
        )
        before.keep()
        after.keep()
    return before, after, found


def since_last(ledger: Ledger, survey: str, found: Audit) -> list[str]:
    """Return what changed since the survey before on the subjects of one that was just made, in a line; nothing where it is the first."""
    earlier = [name for name in ledger.names() if name < survey]
    if not earlier:
        return []
    states = states_of(ledger, earlier[-1], survey)
    before = _audit(states.old, {one.subject for one in found.subjects})
    changed = changes_between(before, found, other=states.other, each=on_all_cores, store=states.new.stored_answers())
    before.keep()
    window = _window(Source.of(ledger), states, before, found, changed)
    return since_lines(changed, Compared(_survey(states.before), _survey(survey), window))


def _audit(stored: StoredEvidence, names: Collection[str]) -> Audit:
    chosen = frozenset(names)
    wanted = [name for name in stored.names if name in chosen]
    return audit(stored, None if len(wanted) == len(stored.names) else wanted, each=engine_for(stored.ledger).judging(stored))


def _chosen(source: Source, states: States, names: Sequence[str]) -> list[str]:
    """Return the subjects that are asked about, of either state; refuse names and tags that none has."""
    known = dict.fromkeys([*source.chosen(states.new), *(source.chosen(states.old) if not source.tags else ())])
    for name in names:
        if name not in known:
            raise unknown_subject(name, list(known))
    return list(names or known)


def _window(source: Source, states: States, before: Audit, after: Audit, found: EstateChanges) -> Window:
    """Return what the logs say of the time in between, of subjects on which rights changed."""
    names = found.changed_subjects
    changed = [one for one in after.subjects if one.subject in names]
    if not changed or not source.ledger.has_logs:  # nothing then says by whose doing
        return Window()
    return Window(
        provenance=replace(source, survey=states.after).provenance(changed),
        begins={one.subject: one.taken for one in before.subjects},
        ends={one.subject: one.taken for one in after.subjects},
    )


def _survey(name: str) -> str:
    """Return the name of a survey as a time that is read at a glance."""
    return f"{name[:10]} {name[11:13]}:{name[13:15]}" if len(name) >= len("2026-11-20T060000Z") else name


def _fails(found: EstateChanges, fail_on: str, sanctions: Sanctions | None) -> bool:
    if fail_on in ("never", "gained"):
        gains = [one for one in found.gains if sanctions is None or not sanctions.allows(one.holding)]
        return fail_on == "gained" and bool(gains)
    if fail_on == "anything":
        return found.anything
    return any(finding.severity <= Severity[fail_on.upper()] for finding in found.new_findings)
