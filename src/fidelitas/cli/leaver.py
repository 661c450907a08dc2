"""``fidelitas leaver``."""

from pathlib import Path

import click

from fidelitas.cli.complete import accounts
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.names import unknown_name
from fidelitas.cli.output import Output, format_option
from fidelitas.cli.people import read_people
from fidelitas.cli.source import Source, source_options
from fidelitas.departure import departure_of
from fidelitas.people import MappedPerson
from fidelitas.reports.departure import departure_report
from fidelitas.rights import known_names


@click.command
@click.argument("name", shell_complete=accounts)
@click.option(
    "--people", "mapped", type=click.Path(dir_okay=False, path_type=Path), metavar="MAP", help="The identity map that has NAME's accounts."
)
@click.option("--verify", is_flag=True, help="Exit with 1 while anything is left; for after the steps and another survey.")
@source_options
@format_option
def command(name: str, mapped: Path | None, source: Source, output: Output, *, verify: bool) -> None:
    """Show everything that a person who leaves still holds anywhere, and the steps that remove it, with the exact commands.

    NAME is an account name, or with an identity map a person of it.  Nothing is changed: commands are printed, never run.
    """
    people = {person.name: person for person in (read_people(mapped) if mapped else ())}
    person = people.get(name) or next((one for one in people.values() if name in one.accounts), MappedPerson(name=name, accounts=(name,)))
    subjects = source.audit().subjects
    departure = departure_of(person, subjects)
    if not departure.accounts:
        known = {*people, *(known for known in known_names(subjects) if not known.startswith("%"))}
        raise unknown_name(f"{source.no_subject} has an account of", name, known)
    output.report(departure_report(departure), of=subjects)
    tell_gaps(subjects)
    if verify and (departure.remaining or departure.steps):
        raise SystemExit(1)
