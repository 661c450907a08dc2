"""The fields of one entry of a charter, read one by one: each is of its type, or an error says where it is not."""

import shlex
from collections.abc import Callable, Iterable
from datetime import date, datetime
from enum import StrEnum
from typing import Any, TypeVar

from fidelitas.errors import RequestError

__all__ = ["Fields"]

E = TypeVar("E", bound=StrEnum)


class Fields:
    """An entry, and where it is; what is not in `known` is refused."""

    def __init__(self, entry: Any, where: str, known: Iterable[str]) -> None:
        self._where, names = where, sorted(known)
        unknown = set(entry) - set(names) if isinstance(entry, dict) else {"everything"}
        if unknown:
            raise self.wrong(f"unknown field {', '.join(sorted(unknown))}", f"The fields are {', '.join(names)}.")
        self._entry: dict[str, Any] = entry

    def wrong(self, what: str, hint: str = "") -> RequestError:
        """Return the error that something is wrong with the entry."""
        return RequestError(f"{self._where}: {what}", hint=hint)

    def has(self, name: str) -> bool:
        """Return whether a field is stated."""
        return name in self._entry

    def text(self, name: str) -> str:
        """Return a text, empty where it is not stated."""
        value = self._entry.get(name, "")
        if not isinstance(value, str):
            raise self.wrong(f'"{name}" must be a text')
        return value

    def names(self, name: str, *, needed: bool = True) -> tuple[str, ...]:
        """Return a text, or a list of texts."""
        value = self._entry.get(name)
        if value is None and not needed:
            return ()
        found = [value] if isinstance(value, str) else value
        if not isinstance(found, list) or not found or not all(isinstance(one, str) and one for one in found):
            raise self.wrong(f'"{name}" must be a text or a list of texts')
        return tuple(found)

    def day(self, name: str) -> date | None:
        """Return a date, as TOML has them or as a text; nothing where it is not stated."""
        value = self._entry.get(name)
        if value is None:
            return None
        if isinstance(value, datetime):
            return value.date()
        if isinstance(value, date):
            return value
        try:
            return date.fromisoformat(value)
        except (ValueError, TypeError):
            raise self.wrong(f'"{name}" must be a date such as 2026-12-31') from None

    def words(self, name: str) -> tuple[str, ...]:
        """Return a command: a line in words as a shell has them, or a list of words."""
        value = self._entry.get(name)
        try:
            found = shlex.split(value) if isinstance(value, str) else value
        except ValueError as error:
            raise self.wrong(f'"{name}" cannot be split into words: {error}') from error
        if not isinstance(found, list) or not found or not all(isinstance(one, str) for one in found):
            raise self.wrong(f'"{name}" must be a command line or a list of words')
        return tuple(found)

    def choices(self, name: str, kind: Callable[[str], E], known: Iterable[E]) -> tuple[E, ...]:
        """Return texts of which each is one of some."""
        try:
            return tuple(kind(text) for text in self.names(name, needed=False))
        except ValueError as error:
            raise self.wrong(f'"{name}": {error}', f"It can be {', '.join(known)}.") from error
