"""Equal rows put together: one holder's rights, one right's holders, one row's subjects."""

from collections.abc import Hashable, Iterable
from typing import TypeVar

__all__ = ["merged"]

R = TypeVar("R", bound=Hashable)


def merged(rows: Iterable[tuple[str, str, str, R]]) -> list[tuple[list[str], list[str], list[str], R]]:
    """Return rows of a holder, a right, a subject and the rest, with such as are equal but for one of these as one row."""
    subjects: dict[tuple[str, str, R], list[str]] = {}
    for name, right, subject, rest in rows:
        subjects.setdefault((name, right, rest), []).append(subject)
    rights: dict[tuple[str, tuple[str, ...], R], list[str]] = {}
    for (name, right, rest), on in subjects.items():
        rights.setdefault((name, tuple(dict.fromkeys(on)), rest), []).append(right)
    names: dict[tuple[tuple[str, ...], tuple[str, ...], R], list[str]] = {}
    for (name, places, rest), held in rights.items():
        names.setdefault((tuple(held), places, rest), []).append(name)
    return [(holders, list(rights_held), list(places), rest) for (rights_held, places, rest), holders in names.items()]
