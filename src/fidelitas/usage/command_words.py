"""Which words of a command line are programs that start others, and which give a shell: a table (`command_words.toml`)."""

import tomllib
from importlib import resources
from typing import Any, NamedTuple

__all__ = [
    "ASK_WITH_I", "CONTAINERS", "INSIDE", "LOGINS", "NO_TERMINAL", "OPERANDS", "OUTPUTS", "PROMPTS", "SHELLS", "STARTING", "TERMINALS",
    "WRAPPERS", "Container",
]  # fmt: skip


class Container(NamedTuple):
    """How a program is started in a container: behind which verbs, and which options take a word."""

    verbs: frozenset[str]
    options: frozenset[str]


_TABLE: dict[str, Any] = tomllib.loads(resources.files(__package__).joinpath("command_words.toml").read_text(encoding="utf-8"))


def _set(text: str) -> frozenset[str]:
    return frozenset(text.split())


SHELLS, TERMINALS, LOGINS = (_set(_TABLE[name]["names"]) for name in ("shells", "terminals", "logins"))
INSIDE, PROMPTS = (_set(_TABLE[name]["names"]) for name in ("inside", "prompts"))
NO_TERMINAL, ASK_WITH_I = _set(_TABLE["terminals"]["not"]), _set(_TABLE["prompts"]["asks_with_i"])
WRAPPERS: dict[str, frozenset[str]] = {name: _set(options) for name, options in _TABLE["wrappers"].items()}
OUTPUTS: dict[str, frozenset[str]] = {name: _set(options) for name, options in _TABLE["outputs"].items()}
STARTING: dict[str, frozenset[str]] = {name: _set(options) for name, options in _TABLE["starting"].items()}
OPERANDS: dict[str, int] = _TABLE["operands"]
CONTAINERS = {
    name: Container(_set(row["verbs"]), _set(row["options"]))
    for first, row in _TABLE["containers"].items()
    for name in (first, *_set(row["also"]))
}
