"""What a program amounts to when it runs as another account: the table in ``data/programs.toml``.

Knows names and argument patterns; nothing of policies.
"""

import re
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase
from functools import cache
from importlib.resources import files

from fidelitas.facts import Command

__all__ = ["Power", "power_of"]


# Under which further names programs of the table are installed: python3.11, perl5.36.0, vim.basic.
_VARIANT = re.compile(r"[0-9]*\.[0-9.]+$|(?<=[a-z])[0-9]+$|\.(?:basic|tiny|nox|athena|gtk3?|openbsd|traditional)$")


@dataclass(frozen=True, slots=True, kw_only=True)
class Power:
    """A program that hands over the account it runs as, under some arguments, with the reason.

    `escape` says that this is a feature of a program that is for something else, `noexec` that the NOEXEC tag stops it.
    """

    name: str
    arguments: tuple[str, ...]
    exceptions: tuple[str, ...]
    escape: bool
    noexec: bool
    reason: str
    instead: str | None = None  # what to write in a sudo rule in its place


@cache
def _table() -> Mapping[str, Sequence[Power]]:
    stated = tomllib.loads(files("fidelitas.rights.linux").joinpath("data/programs.toml").read_text("utf-8"))
    table: dict[str, list[Power]] = {}
    for entry in stated["program"]:
        for name in entry["name"]:
            power = Power(
                name=name,
                arguments=tuple(entry["arguments"]),
                exceptions=tuple(entry.get("except", ())),
                escape=entry["by"] == "escape",
                noexec=entry["noexec"],
                reason=entry["reason"],
                instead=entry.get("instead", ""),
            )
            table.setdefault(name, []).append(power)
    return table


def power_of(command: Command, *, noexec: bool = False) -> Power | None:
    """Return the power that a command of a policy amounts to, or nothing where it is bounded as far as the table knows.

    A digest in the rule fixes the file, not what the program does.
    """
    name = command.path.rpartition("/")[2]
    for power in _table().get(name, ()) or _table().get(_VARIANT.sub("", name), ()):
        if not (noexec and power.noexec) and _fits(command.arguments, power):
            return power
    return None


def _fits(arguments: str | None, power: Power) -> bool:
    if arguments is None:
        return "any" in power.arguments
    if arguments == "":
        return "none" in power.arguments
    if any(fnmatchcase(arguments, pattern) for pattern in power.exceptions):
        return False
    return any(fnmatchcase(arguments, _pattern(pattern)) for pattern in power.arguments if pattern not in ("any", "none"))


def _pattern(pattern: str) -> str:
    r"""Return a pattern of the table for Python's matcher, which writes a literal star ``[*]`` where the table has ``\*``."""
    return pattern.replace("\\*", "[*]")
