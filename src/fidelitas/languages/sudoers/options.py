"""The options of Defaults entries: which there are, and which values each takes (``data/options.toml``).

sudo passes over an option that it does not know, or whose value it does not take, and goes on; an auditor who believes it is in force
is wrong about the host.
"""

import re
import tomllib
from collections.abc import Callable, Mapping
from functools import cache
from importlib.resources import files

from msgspec import Struct

from fidelitas.languages.sudoers.times import timeout_seconds

__all__ = ["option_fault"]


class _Option(Struct, frozen=True):
    kind: str
    negatable: bool
    values: frozenset[str]


@cache
def _table() -> Mapping[str, _Option]:
    stated = tomllib.loads(files("fidelitas.languages.sudoers").joinpath("data/options.toml").read_text("utf-8"))
    return {
        name: _Option(group["kind"], group["negatable"], frozenset(group.get("values", ())))
        for group in stated["options"]
        for name in group["names"]
    }


# syslog(3); the names that sudo knows on Linux.
_FACILITIES = frozenset({"authpriv", "auth", "daemon", "user", *(f"local{number}" for number in range(8))})
_PRIORITIES = frozenset({"alert", "crit", "debug", "emerg", "err", "info", "notice", "warning", "none"})
_INTEGER = re.compile(r"[+-]?\d{1,10}\Z", re.ASCII)
_LIMIT = re.compile(r"(user|default|(infinity|\d{1,19})(,(infinity|\d{1,19}))?)\Z", re.ASCII)
_MINUTES = re.compile(r"[+-]?\d*(\.\d*)?\Z", re.ASCII)


def _any(_: str) -> bool:
    return True


_TAKES: Mapping[str, Callable[[str], bool]] = {
    "text": _any,
    "list": _any,
    "path": lambda value: value.startswith("/"),
    "directory": lambda value: value.startswith(("/", "~")) or value == "*",
    "integer": lambda value: bool(_INTEGER.match(value)) and -(2**31) <= int(value) < 2**31,
    "number": lambda value: bool(_INTEGER.match(value)) and 0 <= int(value) < 2**32,
    "mode": lambda value: bool(re.match(r"[0-7]{1,6}\Z", value)) and int(value, 8) <= 0o777,
    "timeout": lambda value: timeout_seconds(value) is not None,
    "minutes": lambda value: bool(_MINUTES.match(value)),
    "limit": lambda value: bool(_LIMIT.match(value)),
    "facility": lambda value: value in _FACILITIES,
    "priority": lambda value: value in _PRIORITIES,
}


def option_fault(name: str, operator: str, value: str | None) -> str:
    """Return why sudo passes over an option, or nothing where it does not; `operator` as in `SudoDefault`."""
    option = _table().get(name)
    if option is None:
        return f'unknown option "{name}"'
    if value is None:
        missing = operator == "" and option.kind not in ("flag", "facility") and not (option.kind == "choice" and option.negatable)
        unasked = operator == "!" and option.kind != "flag" and not option.negatable
        return f'option "{name}" needs a value' if missing or unasked else ""
    if operator in ("+=", "-=") and option.kind != "list":
        return f'option "{name}" is not a list, which "{operator}" could change'
    if option.kind == "flag":
        return f'option "{name}" takes no value'
    takes = value in option.values if option.kind == "choice" else _TAKES[option.kind](value)
    return "" if takes else f'option "{name}" does not take the value "{value}"'
