"""Charters written: a first one, one with warrants added to it, one with an exception more; comments, order and decisions are kept."""

from collections.abc import Iterable, Sequence
from datetime import date
from typing import Any

import tomlkit
from tomlkit.exceptions import TOMLKitError
from tomlkit.items import AoT, Array

from fidelitas.charter.draft import Drafted
from fidelitas.charter.read import FORMAT
from fidelitas.errors import RequestError

__all__ = ["new_charter", "updated_charter", "with_exception"]

_MOST_HOLDERS = 12
_HEAD = (
    "What access is sanctioned: drafted from what is held, to be read and signed.",
    "Strike what should not be; say why and until when the rest is held, and who has decided so.",
)


def new_charter(drafted: Iterable[Drafted], day: date) -> str:
    """Return the text of a first charter."""
    made = tomlkit.document()
    for line in (*_HEAD, f"Drafted on {day}."):
        made.add(tomlkit.comment(line))
    made.add(tomlkit.nl())
    made.add("format", FORMAT)
    made.add(tomlkit.nl())
    return _with_warrants(made, drafted, day)


def updated_charter(text: str, drafted: Sequence[Drafted], day: date) -> str:
    """Return a charter with warrants for what it does not sanction yet; all else stays as it is."""
    return _with_warrants(_parsed(text), drafted, day) if drafted else text


def with_exception(text: str, key: str, what: str, reason: str, owner: str, until: date | None) -> str:
    """Return a charter with an exception for one finding, which is described in a comment."""
    made = _parsed(text)
    entry = tomlkit.table()
    entry.add(tomlkit.comment(" ".join(what.split())))
    entry.add("key", key)
    entry.add("reason", reason)
    if owner:
        entry.add("owner", owner)
    if until is not None:
        entry.add("until", until)
    _entries(made, "exception").append(entry)
    return tomlkit.dumps(made)


def _parsed(text: str) -> tomlkit.TOMLDocument:
    try:
        return tomlkit.parse(text)
    except (TOMLKitError, ValueError, RecursionError) as error:
        raise RequestError(f"the charter is not TOML: {error}") from error


def _entries(made: tomlkit.TOMLDocument, name: str) -> AoT:
    found = made.get(name)
    if found is None:
        made.add(name, tomlkit.aot())
        found = made[name]
    if not isinstance(found, AoT):
        raise RequestError(f"write [[{name}]] with two brackets")
    return found


def _with_warrants(made: tomlkit.TOMLDocument, drafted: Iterable[Drafted], day: date) -> str:
    for one in drafted:
        entry = tomlkit.table()
        for line in _comments(one, day):
            entry.add(tomlkit.comment(line))
        entry.add("who", _one_or_more(one.who))
        entry.add("right", _one_or_more(one.rights))
        entry.add("on", _one_or_more(one.on))
        entry.add("why", "")
        entry.add("owner", "")
        _entries(made, "warrant").append(entry)
    return tomlkit.dumps(made)


def _comments(one: Drafted, day: date) -> Iterable[str]:
    """Yield what a reader needs to decide: who holds it today, where the names alone do not say that."""
    shown = [" ".join(name.split()) for name in one.holders[:_MOST_HOLDERS]]
    more = len(one.holders) - len(shown)
    if shown and list(one.holders) != list(one.who):
        yield f"Held on {day} by {', '.join(shown)}" + (f" and {more} more." if more > 0 else ".")


def _one_or_more(values: Sequence[str]) -> Any:
    if len(values) == 1:
        return values[0]
    made: Array = tomlkit.array()
    made.extend(values)
    return made.multiline(len(values) > 4)
