"""What a use of privilege amounts to by its program, command and folder alone: worked out once for each, since they are used again."""

import re
from functools import lru_cache
from typing import NamedTuple

from fidelitas.facts import Event
from fidelitas.usage.command_families import family_of
from fidelitas.usage.command_lines import LONGEST
from fidelitas.usage.sensitive_targets import SensitiveTarget, sensitive_targets
from fidelitas.usage.shells import gives_shell

__all__ = ["SWITCHES", "Meaning", "alike", "meaning_of", "stem"]

# Numbers that are whole words, or whole names in a path: an order, a day, a process.  No row of any table tells one of them from another,
# but for modes by which a program is run as its owner.
_NUMBER = re.compile(r"(?<=[ /])(?!0?[4-7][0-7]{3}(?:[ /]|\Z))\d{2,}(?![^ /])")
_ANY_NUMBER = "0000"
# To every row the home of one account is as that of another.
_HOME = re.compile(r"/home/(?!\.\.?(?:/|\Z))[A-Za-z0-9._@-]+(?=/|\Z)")
_ANY_HOME = "/home/x"
SWITCHES = frozenset({"sudo", "su", "doas", "pkexec", "runuser"})


class Meaning(NamedTuple):
    """Whether a use gives a shell, unless it is one within another; its sensitive targets; the kind of work, and the program."""

    shell: bool
    targets: frozenset[SensitiveTarget]
    work: str
    program: str


@lru_cache(maxsize=1000)
def stem(program: str) -> str:
    """Return a program as all its log lines name it: PAM calls a log-in shell of su su-l."""
    return program.removesuffix("-l").removesuffix("-i")


def meaning_of(event: Event) -> Meaning:
    """Return what a use amounts to by its command."""
    return _meaning(event.program, event.command, event.folder)


def alike(command: str) -> str:
    """Return a command with the numbers in its arguments made the same: what it amounts to is the same with any others."""
    program, blank, arguments = command.partition(" ")
    if not blank or program.startswith('"') or len(command) > LONGEST:
        return command
    return program + blank + _NUMBER.sub(_ANY_NUMBER, arguments)


@lru_cache(maxsize=20_000)
def _meaning(program: str, command: str, folder: str) -> Meaning:
    home = _HOME.match(folder)
    return _meaning_alike(program, alike(command), folder if home is None else _ANY_HOME + folder[home.end() :])


@lru_cache(maxsize=10_000)
def _meaning_alike(program: str, command: str, folder: str) -> Meaning:
    shell = program in SWITCHES and (program == "su" or gives_shell(command))
    return Meaning(shell, sensitive_targets(command, folder), family_of(command) or program, _program_of(command) or program)


def _program_of(command: str) -> str:
    """Return the program of a command, which has blanks only where it is in quotes."""
    return command[1:].partition('"')[0] if command.startswith('"') else command.partition(" ")[0]
