"""Which programs a shell command line starts: the first word of each simple command, and the script that it hands to an interpreter.

A reader of intent, not a shell: what only a running shell can know (variables, functions) is skipped.
"""

import re
from collections.abc import Iterator

from fidelitas.languages.words import shell_words

__all__ = ["programs_of"]

_INTERPRETERS = re.compile(r"(?:sh|bash|dash|ksh|zsh|python[0-9.]*|perl[0-9.]*|ruby[0-9.]*|php[0-9.]*|node|lua[0-9.]*|tclsh|Rscript)\Z")
# Programs that run the command that follows.
_WRAPPERS = frozenset(
    {"exec", "env", "nice", "ionice", "nohup", "setsid", "timeout", "chronic", "flock", "systemd-cat", "time", "command", "sudo", "runuser"}
)
_SEPARATORS = frozenset({"&&", "||", ";", "|", "&", "(", ")", "{", "}", "then", "do", "else", "if", "while", "!"})
_ASSIGNMENT = re.compile(r"[A-Za-z_][A-Za-z0-9_]*=")


def programs_of(command: str) -> tuple[str, ...]:
    """Return the absolute paths of the programs and scripts that a command line starts, in order, each once."""
    return tuple(dict.fromkeys(_programs(_split(command))))


def _split(command: str) -> list[str]:
    try:
        return shell_words(command, operators=True)
    except ValueError:  # an open quote
        return command.split()


def _programs(words: list[str]) -> Iterator[str]:
    begins, interpreter, skip = True, False, False
    for word in words:
        if skip:  # what is read from or written to
            skip = False
        elif set(word) <= set("<>&") and word.strip("&"):
            skip = True
        elif word in _SEPARATORS or (word and set(word) <= set("();|&")):
            begins, interpreter = True, False
        elif begins:
            name = word.rpartition("/")[2]
            if _ASSIGNMENT.match(word) or re.match(r"-|[0-9]", word):  # a variable; an option of a wrapper, and its number
                continue
            if word.startswith("/"):
                yield word
            begins = name in _WRAPPERS
            interpreter = bool(_INTERPRETERS.match(name)) or name == "run-parts"
        elif interpreter and not word.startswith("-"):
            if word.startswith("/"):
                yield word
            interpreter = False
