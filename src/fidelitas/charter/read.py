"""The charter file, in TOML.

::

    format = 1

    [[must]]                      # or [[never]]
    account = "noor"              # or a list of accounts
    on = "tern"                   # a subject, or a list
    as = "root"                   # USER, USER:GROUP or :GROUP; root if not stated
    command = "/usr/bin/systemctl restart tide-ingest"   # words as in a shell, or a list
    why = "on duty"
"""

import shlex
import tomllib
from collections.abc import Iterator
from dataclasses import dataclass
from enum import Enum
from typing import Any

from fidelitas.errors import RequestError
from fidelitas.text import has_endless_key

__all__ = ["Clause", "Kind", "read_charter"]

FORMAT = 1
_FIELDS = frozenset({"account", "on", "as", "command", "why"})


class Kind(Enum):
    """What a clause demands."""

    MUST = "must"
    NEVER = "never"


@dataclass(frozen=True, slots=True, kw_only=True)
class Clause:
    """One demand, for one account on one subject; `number` counts the entries of its kind in the file, from 1."""

    kind: Kind
    number: int
    account: str
    subject: str
    run_as: str | None
    command: tuple[str, ...]
    why: str

    def __str__(self) -> str:
        as_whom = self.run_as or "root"
        return f"{self.account} {self.kind.value} run {shlex.join(self.command)} as {as_whom}"


def read_charter(text: str, origin: str) -> tuple[Clause, ...]:
    """Return the clauses of a charter; raises `RequestError` that names the entry that is not as documented."""
    if has_endless_key(text):
        raise RequestError(f'charter "{origin}" has a line with more than a hundred dots: it is not read')
    try:
        stated = tomllib.loads(text)
    except (ValueError, RecursionError) as error:  # also numbers of more digits than Python reads
        raise RequestError(f'charter "{origin}" is not TOML: {error}') from error
    unknown = set(stated) - {"format", *(kind.value for kind in Kind)}
    if stated.get("format") != FORMAT or unknown:
        what = f"has unknown parts: {', '.join(sorted(unknown))}" if unknown else f'does not say "format = {FORMAT}"'
        raise RequestError(f'charter "{origin}" {what}')
    return tuple(clause for kind in Kind for clause in _clauses(stated.get(kind.value, []), kind, origin))


def _clauses(entries: Any, kind: Kind, origin: str) -> Iterator[Clause]:
    if not isinstance(entries, list):
        raise RequestError(f'charter "{origin}": write [[{kind.value}]] with two brackets')
    for number, entry in enumerate(entries, 1):
        where = f'charter "{origin}", [[{kind.value}]] number {number}'
        unknown = set(entry) - _FIELDS if isinstance(entry, dict) else {"everything"}
        if unknown:
            raise RequestError(f"{where}: unknown field {', '.join(sorted(unknown))}", hint=f"The fields are {', '.join(sorted(_FIELDS))}.")
        command = _command(entry.get("command"), where)
        for subject in _names(entry, "on", where):
            for account in _names(entry, "account", where):
                yield Clause(
                    kind=kind,
                    number=number,
                    account=account,
                    subject=subject,
                    run_as=_text(entry, "as", where),
                    command=command,
                    why=_text(entry, "why", where) or "",
                )


def _text(entry: dict[str, Any], name: str, where: str) -> str | None:
    value = entry.get(name)
    if value is not None and not isinstance(value, str):
        raise RequestError(f'{where}: "{name}" must be a text')
    return value


def _names(entry: dict[str, Any], name: str, where: str) -> list[str]:
    value = entry.get(name)
    names = [value] if isinstance(value, str) else value
    if not isinstance(names, list) or not names or not all(isinstance(one, str) for one in names):
        raise RequestError(f'{where}: "{name}" must be a text or a list of texts')
    return names


def _command(value: Any, where: str) -> tuple[str, ...]:
    try:
        words = shlex.split(value) if isinstance(value, str) else value
    except ValueError as error:
        raise RequestError(f'{where}: "command" cannot be split into words: {error}') from error
    if not isinstance(words, list) or not words or not all(isinstance(one, str) for one in words):
        raise RequestError(f'{where}: "command" must be a command line or a list of words')
    return tuple(words)
