"""The charter that a command honours, and the options that name it."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import date
from pathlib import Path
from typing import Any, TypeVar

import click
from msgspec import Struct

from fidelitas.charter import Charter, Sanctions, Scope, UnknownName, read_charter, unknown_in_entries
from fidelitas.cli.names import unknown_name
from fidelitas.cli.people import read_people
from fidelitas.errors import ReadError
from fidelitas.people import MappedPerson
from fidelitas.rights import SubjectRights
from fidelitas.sources.given import content_given

__all__ = ["CharterInUse", "charter_in_use", "charter_options", "charter_text", "latest_day", "people_option", "refuse_unknown"]

F = TypeVar("F", bound=Callable[..., Any])


class CharterInUse(Struct, frozen=True):
    """A charter, what its names mean, and the day for which it is checked."""

    charter: Charter
    scope: Scope
    day: date

    @property
    def sanctions(self) -> Sanctions:
        """Its warrants."""
        return Sanctions(self.charter, self.scope, self.day)


def charter_options(function: F) -> F:
    """Add --charter and --people; they arrive as paths, `charter` and `mapped`."""
    named = click.option("--charter", type=click.Path(dir_okay=False, path_type=Path), metavar="FILE", help="Honour this charter.")
    return named(people_option(function))


def people_option(function: F) -> F:
    """Add --people, which arrives as `mapped`."""
    return click.option(
        "--people", "mapped", type=click.Path(dir_okay=False, path_type=Path), metavar="MAP",
        help="The identity map, for persons and teams that the charter names.",
    )(function)  # fmt: skip


def charter_text(file: Path) -> str:
    """Return the text of a charter file."""
    try:
        return content_given(file, "charter").decode()
    except UnicodeDecodeError as error:
        raise ReadError(f'could not read charter "{file}": {error}') from error


def charter_in_use(
    file: Path,
    mapped: Path | None,
    tags: Mapping[str, Sequence[str]],
    subjects: Sequence[SubjectRights],
    day: date | None = None,
    *,
    whole: bool = True,
) -> CharterInUse:
    """Return a charter, on a day or that of the newest evidence; refuse one that names what is not known.

    Unless `subjects` are the `whole` estate, holders are not looked for: they may be on the others.
    """
    charter = read_charter(charter_text(file), str(file))
    people: tuple[MappedPerson, ...] = read_people(mapped) if mapped is not None else ()
    scope = Scope(tags, people)
    refuse_unknown(unknown_in_entries(charter, scope, subjects if whole else None, has_map=mapped is not None))
    return CharterInUse(charter, scope, day or latest_day(subjects))


def refuse_unknown(found: UnknownName | None) -> None:
    """Refuse a charter that has a name which is not known: an entry about it would say nothing, or look kept."""
    if found is not None:
        raise ReadError(found.problem, hint=found.hint) if found.hint else unknown_name(found.problem, found.name, found.known)


def latest_day(subjects: Iterable[SubjectRights]) -> date:
    """Return the day of the newest evidence."""
    return max((one.taken for one in subjects), key=lambda at: at.timestamp()).date()
