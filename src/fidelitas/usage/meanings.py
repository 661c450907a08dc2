"""What a use of privilege amounts to by its program, command and folder alone: worked out once for each, since they are used again."""

from functools import lru_cache
from typing import NamedTuple

from fidelitas.facts import Event
from fidelitas.usage.command_families import family_of
from fidelitas.usage.command_lines import gives_shell
from fidelitas.usage.sensitive_targets import SensitiveTarget, sensitive_targets

__all__ = ["SWITCHES", "Meaning", "meaning_of"]

SWITCHES = frozenset({"sudo", "su", "doas", "pkexec", "runuser"})


class Meaning(NamedTuple):
    """Whether a use gives a shell, unless it is one within another; its sensitive targets; the kind of work, and the program."""

    shell: bool
    targets: frozenset[SensitiveTarget]
    work: str
    program: str


def meaning_of(event: Event) -> Meaning:
    """Return what a use amounts to by its command."""
    return _meaning(event.program, event.command, event.folder)


@lru_cache(maxsize=20_000)
def _meaning(program: str, command: str, folder: str) -> Meaning:
    shell = program in SWITCHES and (program == "su" or gives_shell(command))
    return Meaning(shell, sensitive_targets(command, folder), family_of(command) or program, _program_of(command) or program)


def _program_of(command: str) -> str:
    """Return the program of a command, which has blanks only where it is in quotes."""
    return command[1:].partition('"')[0] if command.startswith('"') else command.partition(" ")[0]
