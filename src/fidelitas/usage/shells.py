"""Which command lines give a shell, or another prompt from which anything can be run: attribution ends there.

They do so by themselves, as what another program starts, or as what the text for a shell, an interpreter or an editor starts, as far as
the words say.
"""

import re
from collections.abc import Sequence
from itertools import pairwise

from fidelitas.usage.command_lines import DEPTH, INTERPRETERS, is_editor, parts_of_script, runs_of_find, script_of, split_words, started
from fidelitas.usage.command_words import ASK_WITH_I, CONTAINERS, INSIDE, LOGINS, NO_TERMINAL, PROMPTS, SHELLS, STARTING, TERMINALS

__all__ = ["gives_shell"]

_OF_SUDO = re.compile(r"-[A-Za-z]{0,20}[is][A-Za-z]{0,20}|--login|--shell")
_OF_DOAS = re.compile(r"-[A-Za-z]{0,20}s[A-Za-z]{0,20}")
_OF_RUNUSER = re.compile(r"-[A-Za-z]{0,20}l[A-Za-z]{0,20}|-|--login")
_OF_OPTION = {"sudo": _OF_SUDO, "doas": _OF_DOAS, "runuser": _OF_RUNUSER}
_INTERACTIVE = frozenset("it")  # a terminal, and what is typed there
_GIVEN = re.compile(r"-[a-zA-Z]{0,20}[cmeErRpvVh]\w*|--?(?:version|help)")
_VERSION = "0123456789."
_NAMES = "|".join(sorted(map(re.escape, SHELLS), key=len, reverse=True))
# A shell that is not given what to run: no file, no ``-c`` behind it.
_ALONE = rf"""(?:/[^\s'"]{{0,200}}/)?(?:{_NAMES})(?![\w./-])(?!['",\s]{{0,4}}-[a-z]{{0,9}}c\b|['",\s]{{1,4}}[\w/.~$])"""
_CALLS = re.compile(
    rf"""(?:\b(?:system|exec\w{{0,9}}|spawn\w{{0,9}}|popen\w?|Popen|passthru|call|check_call|run|qx)\b|`|\|)[^;\n]{{0,60}}?(?<![\w./-]){_ALONE}"""
)
_ESCAPES = re.compile(
    rf"""(?:(?:\A|[\s"'(:;+|\\])!\s?|\b(?:exec|EXEC|system|SYSTEM|to-command|ProxyCommand|[pP]ager|PAGER|sh-exec|use-compress-program)[=:]\s?['"]?){_ALONE}"""
)
_IN_EDITOR = re.compile(r"(?:-c\s|--cmd\s|\+):?(?:sh|shell|term|terminal)(?=\s|\Z)|\((?:e?shell|(?:ansi-)?term)\b|-f (?:e?shell|term)\b")
_CODE = frozenset({"awk", "gawk", "mawk", "nawk", "expect", "tclsh"})


def gives_shell(command: str) -> bool:
    """Return whether a command line gives an interactive shell: by itself, or as what another program starts."""
    return _gives(split_words(command), DEPTH)


def _gives(words: Sequence[str], depth: int) -> bool:
    program, rest = started(words)
    if not program or depth == 0:
        return False
    script = script_of(program, rest)
    if script is not None:
        return any(_gives(part, depth - 1) for part, _ in parts_of_script(script))
    if program in SHELLS:  # with a file it runs that and ends
        return not any(not word.startswith("-") for word in rest) or "-i" in rest or "-s" in rest
    if program == "find":
        return any(_gives(run, depth - 1) for run in runs_of_find(rest))
    return _by_itself(program, rest) or _as_asked(program, rest)


def _by_itself(program: str, rest: Sequence[str]) -> bool:
    """Return whether a program gives a shell, or asks for what to run, without being given one to start."""
    if program in TERMINALS:
        return not NO_TERMINAL & set(rest)
    option = _OF_OPTION.get(program)  # where nothing is started that stands here
    if option is not None:
        return any(map(option.fullmatch, rest))
    if program == "systemd-run":
        return bool({"-S", "--shell"} & set(rest))
    if program == "machinectl":
        return bool({"shell", "login"} & set(rest))
    if program in CONTAINERS:  # what an image is made to run
        return "attach" in rest[:1] or ("run" in rest and _options_in(rest) >= _INTERACTIVE)
    name = program.rstrip(_VERSION)
    if name in PROMPTS:
        is_given = any(not word.startswith("-") or _GIVEN.match(word) for word in rest)
        return not is_given or ("-i" in rest and name in ASK_WITH_I)
    return program in LOGINS or program in INSIDE


def _options_in(words: Sequence[str]) -> frozenset[str]:
    """Return the letters that are options, alone or several in a word."""
    return frozenset("".join(word[1:] if word[1:2] != "-" else word[2:3] for word in words if word.startswith("-")))


def _as_asked(program: str, rest: Sequence[str]) -> bool:
    """Return whether the words of a program have it start a shell."""
    text = " ".join(rest)
    if (program in _CODE or INTERPRETERS.match(program)) and _CALLS.search(text):
        return True
    if is_editor(program) and _IN_EDITOR.search(text):
        return True
    options = STARTING.get(program, ())
    behind = (after.rpartition("/")[2] for word, after in pairwise(rest) if word in options)
    return any(name in SHELLS for name in behind) or any(map(_ESCAPES.search, rest))
