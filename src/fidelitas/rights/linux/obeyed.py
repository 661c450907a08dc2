"""What root obeys by where it is: the table in ``data/obeyed.toml``.

Knows places and what they are for; not who can write them.
"""

import re
import tomllib
from collections.abc import Iterator
from fnmatch import translate
from functools import cache
from importlib.resources import files
from posixpath import dirname
from typing import Any

from msgspec import Struct

from fidelitas.facts import FileState
from fidelitas.rights.linux.folder_readers import is_read
from fidelitas.rights.linux.population import Population

__all__ = ["Obeyed", "is_stock", "obeyed_at"]


@cache
def _document() -> dict[str, Any]:
    return tomllib.loads(files("fidelitas.rights.linux").joinpath("data/obeyed.toml").read_text(encoding="utf-8"))


@cache
def _stock() -> tuple[tuple[frozenset[str], re.Pattern[str]], ...]:
    return tuple(
        (frozenset(row["owners"]), re.compile("|".join(translate(pattern) for pattern in row["places"]))) for row in _document()["stock"]
    )


def is_stock(path: str, state: FileState, population: Population) -> bool:
    """Return whether a distribution itself gives a place to the account that owns it, and nobody else can write it."""
    owner = population.by_uid(state.uid) if state.uid is not None else None
    others = state.mode is None or bool(state.mode & 0o022 and not state.mode & 0o1000) or bool(state.access)
    return owner is not None and not others and any(owner.name in owners and places.match(path) for owners, places in _stock())


class Obeyed(Struct, frozen=True):
    """What is obeyed at a place: the folder or file of the table, and how root uses it."""

    path: str
    why: str


class _Row(Struct, frozen=True):
    entries: bool  # whether what is in the folder counts, not only the folder itself
    why: str
    order: int


@cache
def _rows() -> tuple[dict[str, _Row], dict[str, _Row]]:
    """Return the rows by folder and by file; of two about one place the first counts."""
    folders: dict[str, _Row] = {}
    single: dict[str, _Row] = {}
    for order, row in enumerate(_document()["place"]):
        made = _Row(row.get("entries", True), row["why"], order)
        for folder in row.get("in", ()):
            folders.setdefault(folder, made)
        for file in row.get("files", ()):
            single.setdefault(file, made)
    return folders, single


@cache
def _below() -> dict[str, tuple[str, _Row]]:
    """Return for every folder above a place the first place below it: who can write the folder can replace the place."""
    folders, single = _rows()
    found: dict[str, tuple[str, _Row]] = {}
    for path, row in sorted((*folders.items(), *single.items()), key=lambda item: item[1].order):
        for above in _above(dirname(path)):
            found.setdefault(above, (path, row))
    return found


def _above(path: str) -> Iterator[str]:
    while path != "/":
        yield path
        path = dirname(path)


def obeyed_at(path: str, *, folder: bool, sticky: bool = False) -> Obeyed | None:
    """Return what root obeys at, in or below a path that others can write; in a `sticky` folder others can add, and not replace."""
    folders, single = _rows()
    if path in single:
        return Obeyed(path, single[path].why)
    for at in _above(path):
        row = folders.get(at)
        if row is not None:
            if at == path:
                return Obeyed(at, row.why)
            if row.entries and is_read(path, None):
                return Obeyed(path, row.why)
    if folder and not sticky and path in _below():
        below, row = _below()[path]
        return Obeyed(below, row.why)
    return None
