"""The identity map: who there is, and which accounts are theirs; as CSV with a head line, or as TOML.

An account is named by itself, for every subject, or as ``SUBJECT:ACCOUNT``.
"""

import csv
import io
import tomllib
from collections.abc import Iterator, Mapping
from datetime import date, datetime
from typing import Any

from msgspec import Struct

from fidelitas.errors import ReadError
from fidelitas.text import has_endless_key

__all__ = ["MappedPerson", "read_map"]

_KNOWN = ("person", "accounts", "team", "status", "until", "manager")
_STATUSES = ("active", "leaving", "left", "external")


class MappedPerson(Struct, frozen=True, kw_only=True):
    """A person of the map; `until` is the last day, `line` where it stands (of CSV the line, of TOML which entry)."""

    name: str
    accounts: tuple[str, ...]
    team: str | None = None
    status: str = "active"
    until: date | None = None
    manager: str | None = None  # the name of a person, who decides about their rights in a review
    line: int = 0

    def has_left(self, today: date) -> bool:
        """Return whether someone is no longer there."""
        return self.status == "left" or (self.until is not None and self.until < today)


def read_map(text: str, origin: str) -> tuple[MappedPerson, ...]:
    """Return the people of a map; raises `ReadError` for the first thing that is not as documented, with file and line."""
    rows = list(_from_toml(text, origin) if origin.endswith(".toml") else _from_csv(text, origin))
    people = tuple(_person(row, origin, line) for line, row in rows)
    seen: dict[str, int] = {}
    for person in people:
        if person.name in seen:
            raise _wrong(origin, person.line, f'person "{person.name}" stands there twice, first as entry {seen[person.name]}')
        seen[person.name] = person.line
    return people


def _wrong(origin: str, line: int, what: str) -> ReadError:
    return ReadError(f"{origin}:{line}: {what}", hint="See docs/people.md for the form.")


def _from_csv(text: str, origin: str) -> Iterator[tuple[int, Mapping[str, Any]]]:
    reader = csv.DictReader(io.StringIO(text.removeprefix("\ufeff")))
    try:
        head = reader.fieldnames or ()
        if "person" not in head or "accounts" not in head or set(head) - set(_KNOWN):
            raise _wrong(origin, 1, f"expected the columns {', '.join(_KNOWN)}, found {', '.join(map(str, head)) or 'none'}")
        for row in reader:
            if None in row:
                raise _wrong(origin, reader.line_num, "more fields than columns")
            yield reader.line_num, {name: value or "" for name, value in row.items()}
    except csv.Error as error:
        raise _wrong(origin, reader.line_num, str(error)) from error


def _from_toml(text: str, origin: str) -> Iterator[tuple[int, Mapping[str, Any]]]:
    if has_endless_key(text):
        raise ReadError(f"{origin}: a line has more than a hundred dots: it is not read", hint="See docs/people.md for the form.")
    try:
        stated = tomllib.loads(text)
    except (ValueError, RecursionError) as error:  # also numbers of more digits than Python reads
        raise ReadError(f"{origin}: {error}", hint="See docs/people.md for the form.") from error
    entries = stated.get("person", [])
    if not isinstance(entries, list) or set(stated) - {"person"}:
        raise _wrong(origin, 1, "expected entries [[person]] and nothing else")
    for number, entry in enumerate(entries, 1):
        if not isinstance(entry, dict) or set(entry) - {*_KNOWN, "name"}:
            raise _wrong(origin, number, f"expected {', '.join(('name', *_KNOWN[1:]))} in an entry")
        yield number, {"person": entry.get("name", ""), **entry}


def _person(row: Mapping[str, Any], origin: str, line: int) -> MappedPerson:
    name, accounts, status, until = (row.get(key, "") for key in ("person", "accounts", "status", "until"))
    if not isinstance(name, str) or not name.strip():
        raise _wrong(origin, line, "a person has no name")
    if status not in ("", *_STATUSES):
        raise _wrong(origin, line, f'expected a status of {", ".join(_STATUSES)}, found "{status}"')
    names = accounts.replace(";", " ").split() if isinstance(accounts, str) else accounts
    if not isinstance(names, list) or not all(isinstance(one, str) for one in names):
        raise _wrong(origin, line, f"the accounts of {name} are not a list of names")
    return MappedPerson(
        name=name.strip(),
        accounts=tuple(names),
        team=str(row.get("team", "")) or None,
        status=status or "active",
        until=_day(until, origin, line),
        manager=str(row.get("manager", "")).strip() or None,
        line=line,
    )


def _day(text: Any, origin: str, line: int) -> date | None:
    if isinstance(text, datetime):
        return text.date()
    if isinstance(text, date):
        return text
    if not text:
        return None
    try:
        return date.fromisoformat(str(text))
    except ValueError as error:
        raise _wrong(origin, line, f'expected a date such as 2026-12-31, found "{text}"') from error
