"""What a program amounts to when it runs as another account: the table in ``data/programs.toml``.

Knows names and argument patterns; nothing of policies.
"""

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

from fidelitas.facts import Command

__all__ = ["Power", "power_of"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Power:
    """A program that hands over the account it runs as, under some arguments, with the reason."""

    name: str
    arguments: frozenset[str]
    reason: str


@cache
def _table() -> Mapping[str, Power]:
    stated = tomllib.loads(files("fidelitas.rights").joinpath("data/programs.toml").read_text("utf-8"))
    return {
        name: Power(name=name, arguments=frozenset(entry["arguments"]), reason=entry["reason"])
        for entry in stated["program"]
        for name in entry["name"]
    }


def power_of(command: Command) -> Power | None:
    """Return the power that a command of a policy amounts to, or nothing where it is bounded as far as the table knows."""
    power = _table().get(command.path.rpartition("/")[2])
    if power is None or (command.digests and "any" not in power.arguments):
        return None
    asked = "any" if command.arguments in (None, "*") else command.arguments or "none"
    return power if asked in power.arguments else None
