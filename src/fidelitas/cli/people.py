"""``fidelitas people``."""

from datetime import UTC, datetime
from pathlib import Path

import click

from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.output import Output, format_option
from fidelitas.cli.source import Source, source_options
from fidelitas.errors import RequestError
from fidelitas.people import MappedPerson, join, read_map
from fidelitas.reports.people import people_report
from fidelitas.sources.given import content_given
from fidelitas.text import decode


@click.command
@click.argument("mapped", metavar="MAP", type=click.Path(dir_okay=False, path_type=Path))
@source_options
@format_option
def command(mapped: Path, source: Source, output: Output) -> None:
    """Join accounts on hosts, database servers and directories by the identity MAP, and show what each person holds altogether.

    MAP is CSV (person,accounts,team,status,until,manager) or TOML; see docs/people.md.  Also shown: people who left and still hold rights,
    shared accounts, and accounts with rights that belong to nobody in the map, with a suggestion whose they are.

    Exit status: 1 if someone who left holds a right; 2 where no account of the map is known.
    """
    people, today = read_people(mapped), datetime.now(UTC).date()
    subjects = source.audit().subjects
    joined = join(people, subjects)
    if people and not any(owned for _, owned in joined.people):
        raise RequestError(f"{mapped}: no subject in evidence has any account of the map", hint="Is it the map of this estate?")
    output.report(people_report(joined, today), of=subjects)
    tell_gaps(subjects)
    if joined.leavers(today):
        raise SystemExit(1)


def read_people(mapped: Path) -> tuple[MappedPerson, ...]:
    """Return the people of an identity map."""
    return read_map(decode(content_given(mapped, "identity map", "Name a CSV or TOML file.")), str(mapped))
