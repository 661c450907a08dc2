"""What the programs that read a folder skip or refuse there: the table in ``data/folder_readers.toml``.

Knows names and what is examined; not who can write a file.
"""

import re
import tomllib
from functools import cache
from importlib.resources import files

from msgspec import Struct

from fidelitas.facts import OperatingSystem

__all__ = ["examined_by", "is_read"]


class _Row(Struct, frozen=True):
    names: re.Pattern[str] | None
    skipped: tuple[str, ...]
    systems: frozenset[str]
    examined: str

    def takes(self, name: str, system: OperatingSystem | None) -> bool:
        """Whether the reader of the folder takes a name there."""
        if self.systems and (system is None or not self.systems & set(system.family)):
            return True
        return (self.names is None or self.names.fullmatch(name) is not None) and not name.endswith(self.skipped)


@cache
def _rows() -> dict[str, list[_Row]]:
    text = files("fidelitas.rights.linux").joinpath("data/folder_readers.toml").read_text(encoding="utf-8")
    found: dict[str, list[_Row]] = {}
    for row in tomllib.loads(text)["folder"]:
        names = re.compile(row["names"]) if "names" in row else None
        for folder in row["in"]:
            found.setdefault(folder, []).append(
                _Row(names, tuple(row.get("skipped", ())), frozenset(row.get("systems", ())), row.get("examined", ""))
            )
    return found


def is_read(path: str, system: OperatingSystem | None) -> bool:
    """Return whether the program that reads a folder takes a file or folder there, by its name; anything where no table knows better."""
    folder, _, name = path.rpartition("/")
    while folder:
        if not all(row.takes(name, system) for row in _rows().get(folder, ())):
            return False
        folder, _, name = folder.rpartition("/")
    return True


def examined_by(path: str) -> str:
    """Return the program that refuses a file which is not root's alone, or nothing: its folder counts with the files in it."""
    rows = (*_rows().get(path, ()), *_rows().get(path.rpartition("/")[0], ()))
    return next((row.examined for row in rows if row.examined), "")
