"""Listings of rows, one JSON object each: what the catalogue of a server is kept as.  A row that is not as expected costs only itself."""

from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime
from functools import cache
from typing import Any, TypeVar, cast

import msgspec
from msgspec.structs import fields

from fidelitas.facts import Gap, Place
from fidelitas.languages.evidence import HostEvidence
from fidelitas.text import clipped, escape_control

__all__ = ["Row", "RowReader", "fact_of", "flag_of", "number_of", "text_of", "texts_of", "time_in", "time_of"]

T = TypeVar("T")
Row = Mapping[str, Any]


# As many faulty rows of one listing are named.
_MOST_FAULTS = 100


class RowReader:
    """The rows of a server's evidence; ``origin`` stands before the listing in a place, ``what`` is what a gap calls a row."""

    def __init__(self, evidence: HostEvidence, what: str, origin: str = "") -> None:
        self.evidence = evidence
        self._what = what
        self._origin = origin
        self._faults: Counter[str] = Counter()
        self._gaps = [
            Gap(what=gap.path, why=gap.reason, weakens="its content is not known", place=Place(evidence.subject, gap.path))
            for gap in evidence.gaps
        ]

    @property
    def gaps(self) -> tuple[Gap, ...]:
        """Return what could not be read so far; a listing that is read twice tells of a row once."""
        return tuple({(gap, gap.place): gap for gap in self._gaps}.values())

    def missing(self, why: str, weakens: str, place: Place, what: str = "") -> None:
        """Note that a row could not be read; of many such rows of a listing the first are named, and that there are more."""
        count = self._faults[place.path] = self._faults[place.path] + 1
        if count == _MOST_FAULTS + 1:
            why, place = f"more than {_MOST_FAULTS} rows are not as expected", Place(place.subject, place.path)
        if count > _MOST_FAULTS + 1:
            return
        self._gaps.append(Gap(what=what or self._what, why=why, weakens=weakens, place=place))

    def origin(self, listing: str) -> Place:
        """Return where the rows of a listing stand."""
        return Place(self.evidence.subject, self._origin + listing)

    def faulty(self, error: Exception, place: Place) -> None:
        """Note that a row could not be taken as what it should be."""
        why = f"a row is not as expected: {type(error).__name__}: {clipped(escape_control(str(error)), 80)}"
        self.missing(why, "what it states is not known", place)

    def rows(self, listing: str) -> Iterator[tuple[Row, Place]]:
        """Yield the rows of a listing, each with the line it stands in."""
        origin = self.origin(listing)
        for number, line in enumerate(self.evidence.listings.get(listing, b"").split(b"\n"), 1):
            begins = line.lstrip()[:1]
            if not begins:
                continue
            try:
                row = msgspec.json.decode(line.removeprefix(b"\xef\xbb\xbf")) if begins in b"{\xef" else None
            except (ValueError, RecursionError):
                row = None
            if isinstance(row, dict):
                yield row, origin.at(number)
            else:
                self.missing("a row is not a JSON object", "what it states is not known", origin.at(number))

    def all(self, listing: str, make: Callable[[Row, Place], T]) -> tuple[T, ...]:
        """Return the facts that ``make`` takes from the rows of a listing; a row that is not as expected is a gap."""
        return tuple(fact for row, place in self.rows(listing) for fact in self.one(make, row, place))

    def one(self, make: Callable[[Row, Place], T], row: Row, place: Place) -> list[T]:
        """Return the fact that ``make`` takes from a row, or none and note a gap."""
        try:
            return [make(row, place)]
        except (KeyError, TypeError, ValueError, AttributeError, RecursionError) as error:
            self.faulty(error, place)
            return []


def text_of(row: Row, name: str) -> str:
    """Return a column that must be text; raises `KeyError` or `TypeError`."""
    value = row[name]
    if not isinstance(value, str):
        raise TypeError(f"{name} is {value!r}")
    return value


def flag_of(row: Row, name: str) -> bool:
    """Return a column that must be true or false; raises `KeyError` or `TypeError`."""
    value = row[name]
    if not isinstance(value, bool):
        raise TypeError(f"{name} is {value!r}")
    return value


def number_of(row: Row, name: str) -> int:
    """Return a column that must be a whole number; raises `KeyError` or `TypeError`."""
    value = row[name]
    if not isinstance(value, int) or isinstance(value, bool):
        raise TypeError(f"{name} is {value!r}")
    return value


def texts_of(row: Row, name: str) -> tuple[str, ...]:
    """Return a column that is a list, as texts; of anything else nothing."""
    value = row.get(name)
    return tuple(str(one) for one in value) if isinstance(value, list) else ()


def time_of(row: Row, name: str) -> datetime | None:
    """Return a column that is a time, as `time_in` has it."""
    return time_in(row.get(name))


def time_in(value: object) -> datetime | None:
    """Return a time as the server writes it; "infinity" is none, and so is what Python's calendar does not reach."""
    try:
        at = datetime.fromisoformat(value) if isinstance(value, str) else None
    except ValueError:
        return None
    return None if at is None else at.astimezone(UTC) if at.tzinfo else at.replace(tzinfo=UTC)


# What reads a column, by the type of the field that it is for.
_COLUMNS: Mapping[object, Callable[[Row, str], object]] = {
    str: text_of,
    bool: flag_of,
    int: number_of,
    tuple[str, ...]: texts_of,
    datetime | None: time_of,
}


def fact_of(kind: Callable[..., T], row: Row, place: Place, columns: Mapping[str, str] | None = None, **given: Any) -> T:
    """Return a fact of a kind, each field read from the column of its name by its type; what is `given` is taken as it is.

    `columns` are the names of columns that differ from those of their fields.  Raises `KeyError` or `TypeError` where one is not as
    expected.
    """
    named = columns or {}
    read = {name: reader(row, named.get(name, name)) for name, reader in _readers(kind) if name not in given}
    return kind(**read, **given, place=place)


@cache
def _readers(kind: Callable[..., Any]) -> tuple[tuple[str, Callable[[Row, str], object]], ...]:
    """Return the fields of a kind of fact that are read from a column, each with what reads it; the others must be given."""
    return tuple((field.name, _COLUMNS.get(field.type, _no_column)) for field in fields(cast(Any, kind)) if field.name != "place")


def _no_column(_: Row, name: str) -> object:
    raise TypeError(f"{name} is not read from a column")
