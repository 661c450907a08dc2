"""Settings from files: what options default to, and where each value comes from.

`fidelitas.toml` is looked for in the user's configuration folder (XDG base directories) and in the working folder; the second counts more,
the environment more than both, and an option on the command line most.  This program often runs as root: a file that someone else can
write is refused.
"""

import os
import stat
import tomllib
from collections.abc import Mapping, Sequence
from pathlib import Path

from msgspec import Struct

from fidelitas.errors import ReadError

__all__ = ["SETTINGS", "Setting", "Value", "configuration_files", "read_settings"]

NAME = "fidelitas.toml"


class Setting(Struct, frozen=True):
    """One setting: what it is for, the type of its value, what it may be, and the variable of the environment that counts more."""

    about: str
    kind: type
    choices: tuple[str, ...] = ()
    variable: str | None = None


_SEVERITIES = ("critical", "high", "medium", "low", "info")
SETTINGS: Mapping[str, Setting] = {
    "ledger": Setting("where surveys are kept: a folder, or a database", str, variable="FIDELITAS_LEDGER"),
    "engine": Setting("where subjects are judged and logs read: local, or dask://HOST:PORT", str, variable="FIDELITAS_ENGINE"),
    "colour": Setting("when to colour", str, ("auto", "always", "never")),
    "pager": Setting("whether long output goes through the pager", bool),
    "severity": Setting("the least severity that findings lists", str, _SEVERITIES),
    "fail-on": Setting("the severity at which findings exits with 1", str, (*_SEVERITIES, "never")),
    "zone": Setting("the time zone of log stamps that name none", str),
    "charter": Setting("the charter of the estate, for charter check, findings, holders, changes and rehearse", str),
    "people": Setting("the identity map, for people, leaver and what a charter says of persons and teams", str),
}


class Value(Struct, frozen=True):
    """A value and where it comes from."""

    value: str | bool
    origin: str


def configuration_files() -> list[Path]:
    """Return the files that are looked for, the one that counts least first."""
    named = os.environ.get("XDG_CONFIG_HOME")
    user = (Path(named) if named else Path.home() / ".config") / "fidelitas" / NAME
    try:
        return [user, Path.cwd() / NAME]
    except FileNotFoundError:  # someone has removed the folder that this runs in
        return [user]


def read_settings(files: Sequence[Path] | None = None, *, environment: bool = True) -> dict[str, Value]:
    """Return what the files set, and the environment where that is wanted; raises `ReadError` for a file that is not as it must be."""
    found: dict[str, Value] = {}
    for file in configuration_files() if files is None else files:
        found |= {name: Value(value, str(file)) for name, value in _read(file).items()}
    for name, setting in SETTINGS.items():
        if environment and setting.variable is not None and os.environ.get(setting.variable):
            found[name] = Value(os.environ[setting.variable], f"environment variable {setting.variable}")
    return found


def _read(file: Path) -> dict[str, str | bool]:
    try:
        with file.open("rb") as opened:
            _refuse_of_others(file, os.fstat(opened.fileno()))
            stated = tomllib.load(opened)
    except FileNotFoundError:
        return {}
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError, RecursionError) as error:
        raise ReadError(f'could not read configuration "{file}": {getattr(error, "strerror", None) or error}') from error
    return {name: _checked(file, name, value) for name, value in stated.items()}


def _refuse_of_others(file: Path, state: os.stat_result) -> None:
    if state.st_uid not in (os.geteuid(), 0) or state.st_mode & (stat.S_IWGRP | stat.S_IWOTH):
        raise ReadError(
            f'configuration "{file}" is not used: it belongs to another user, or others can write it',
            hint="chown it to yourself and chmod go-w it, or run in another folder.",
        )


def _checked(file: Path, name: str, value: object) -> str | bool:
    setting = SETTINGS.get(name)
    if setting is None:
        raise ReadError(f'configuration "{file}": there is no setting "{name}"', hint=f"There are: {', '.join(SETTINGS)}.")
    if not isinstance(value, (str, bool)) or not isinstance(value, setting.kind):
        raise ReadError(f'configuration "{file}": {name} must be {"true or false" if setting.kind is bool else "text"}')
    if setting.choices and value not in setting.choices:
        raise ReadError(f'configuration "{file}": {name} is "{value}"', hint=f"It can be {', '.join(setting.choices)}.")
    return value
