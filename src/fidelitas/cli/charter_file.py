"""The charter that a command honours, and the options that name it."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Any, TypeVar

import click

from fidelitas.charter import Charter, Sanctions, Scope, read_charter, right_words
from fidelitas.cli.names import unknown_name
from fidelitas.cli.people import read_people
from fidelitas.errors import ReadError
from fidelitas.people import MappedPerson
from fidelitas.rights import SubjectRights

__all__ = ["CharterInUse", "charter_in_use", "charter_options", "charter_text", "latest_day", "people_option"]

F = TypeVar("F", bound=Callable[..., Any])


@dataclass(frozen=True, slots=True)
class CharterInUse:
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
        return file.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise ReadError(f'could not read charter "{file}": {getattr(error, "strerror", None) or error}') from error


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
    _refuse_unknown(charter, scope, subjects if whole else None, has_map=mapped is not None)
    return CharterInUse(charter, scope, day or latest_day(subjects))


def latest_day(subjects: Iterable[SubjectRights]) -> date:
    """Return the day of the newest evidence."""
    return max((one.taken for one in subjects), key=lambda at: at.timestamp()).date()


def _refuse_unknown(charter: Charter, scope: Scope, subjects: Sequence[SubjectRights] | None, *, has_map: bool) -> None:
    """Refuse a charter that names a subject, holder or right of which there is no evidence: an entry about it would say nothing."""
    for where, on in _places(charter):
        for name in on:
            if not scope.subjects([name]):
                raise unknown_name(
                    f"{where}: no subject in the ledger is called or tagged", name.removeprefix("tag:"), _known_places(scope)
                )
    for warrant in charter.warrants:
        where = f"[[warrant]] number {warrant.number} of the charter"
        here = None if subjects is None else [one for one in subjects if scope.is_on(warrant.on, one.subject)]
        for name in warrant.who:
            _refuse_unknown_holder(name, where, scope, here, has_map=has_map)
    for where, rights in _rights(charter):
        for right in rights:
            if right not in right_words() and ":" not in right and " " not in right:
                raise unknown_name(f"{where}: there is no right", right, right_words())


def _refuse_unknown_holder(name: str, where: str, scope: Scope, here: Sequence[SubjectRights] | None, *, has_map: bool) -> None:
    kind, colon, _ = name.partition(":")
    if colon and kind in ("person", "team"):
        if scope.unknown(name) is not None:
            known = {person.name if kind == "person" else person.team or "" for person in scope.people}
            if not has_map:
                raise ReadError(f'{where} names the {kind} "{name.partition(":")[2]}"', hint="Name the identity map with --people.")
            raise unknown_name(f"{where}: the identity map has no {kind}", name.partition(":")[2], known)
    elif here is not None and not any(one.knows(name) or name in one.names() for one in here):
        raise unknown_name(f"{where}: no subject that it is about has", name, (known for one in here for known in one.names()))


def _known_places(scope: Scope) -> set[str]:
    return {*scope.tags, *(tag for tags in scope.tags.values() for tag in tags)}


def _places(charter: Charter) -> Iterator[tuple[str, Sequence[str]]]:
    for name, entries in (("warrant", charter.warrants), ("segregation", charter.segregations), ("exception", charter.exceptions)):
        for entry in entries:
            yield f"[[{name}]] number {entry.number} of the charter", entry.on


def _rights(charter: Charter) -> Iterator[tuple[str, Sequence[str]]]:
    yield from ((f"[[warrant]] number {one.number} of the charter", one.rights) for one in charter.warrants)
    yield from ((f"[[segregation]] number {one.number} of the charter", one.rights) for one in charter.segregations)
    yield from (
        (f"[[{one.kind.value}]] number {one.number} of the charter", (one.right,)) for one in charter.clauses if one.right is not None
    )
