"""Hooks: configuration by which root's programs run others, by the table in ``data/hooks.toml``; and scripts that root runs.

Knows where a command stands in each form; not who can write what it names.
"""

import re
import tomllib
from collections.abc import Iterator
from fnmatch import fnmatchcase
from functools import cache
from importlib.resources import files
from posixpath import dirname

from msgspec import Struct

from fidelitas.facts import Job, JobKind, Place
from fidelitas.languages.linux.shell import Call, calls_of

__all__ = ["read_hook", "script_job"]

_MOST_LINES = 5000
_LONGEST = 4096
_BINARY = 8192  # characters, in which a compiled program has a NUL
# Commands that name nothing of their own: options, units, words.
_PYTHON_IMPORT = re.compile(r"^\s*(?:from\s+([A-Za-z_]\w*)|import\s+([A-Za-z_]\w*(?:\s*,\s*[A-Za-z_]\w*)*))", re.MULTILINE)


class _Hook(Struct, frozen=True):
    patterns: tuple[str, ...]
    commands: tuple[re.Pattern[str], ...]
    whole: tuple[re.Pattern[str], ...]
    why: str


@cache
def _hooks() -> tuple[_Hook, ...]:
    text = files("fidelitas.languages.linux").joinpath("data/hooks.toml").read_text(encoding="utf-8")
    return tuple(
        _Hook(
            tuple(row["in"]),
            tuple(map(re.compile, row.get("command", ()))),
            tuple(map(re.compile, row.get("whole", ()))),
            row["why"],
        )
        for row in tomllib.loads(text)["hook"]
    )


def read_hook(path: str, text: str, subject: str) -> Iterator[Job]:
    """Yield what a file makes root's programs run; nothing where it is none of the table's."""
    for hook in _hooks():
        if not any(fnmatchcase(path, pattern) for pattern in hook.patterns):
            continue
        if hook.commands:
            yield from _lines(hook, path, text, subject)
        for expression in hook.whole:
            for found in expression.finditer(text[: _MOST_LINES * 100]):
                first = text.count("\n", 0, found.start(1)) + 1
                yield from _jobs(hook.why, path, subject, calls_of(found[1]), first - 1)
        if not hook.commands and not hook.whole:
            yield from _jobs(hook.why, path, subject, _script_calls(path, text), 0)


def _lines(hook: _Hook, path: str, text: str, subject: str) -> Iterator[Job]:
    for number, line in enumerate(text.split("\n")[:_MOST_LINES], 1):
        if len(line) > _LONGEST or line.lstrip().startswith(("#", ";")):
            continue
        for expression in hook.commands:
            for found in expression.finditer(line):
                command = next((group for group in found.groups() if group), "")
                if "/" in command:
                    yield from _jobs(hook.why, path, subject, calls_of(command), number - 1)


def _jobs(why: str, path: str, subject: str, calls: tuple[Call, ...], before: int) -> Iterator[Job]:
    for call in calls:
        place = Place(subject=subject, path=path, line=before + call.line)
        yield Job(kind=JobKind.HOOK, name=why, run_as="root", command="", programs=(call.path,), place=place, how=call.how)


def script_job(path: str, text: str, subject: str, run_as: str, folder: str | None = None) -> tuple[Job, ...]:
    """Return what a script runs, reads and imports, as jobs of the account that runs it."""
    found = []
    for call in _script_calls(path, text, folder):
        place = Place(subject=subject, path=path, line=call.line)
        found.append(Job(kind=JobKind.SCRIPT_CALL, name=path, run_as=run_as, command="", programs=(call.path,), place=place, how=call.how))
    return tuple(found)


def _script_calls(path: str, text: str, folder: str | None = None) -> tuple[Call, ...]:
    first = text[:200].split("\n", 1)[0]
    if "\0" in text[:_BINARY]:
        return ()
    if re.match(r"#!.*\bpython", first) or (path.endswith(".py") and not first.startswith("#!")):
        return tuple(_imports(path, text))
    if re.match(r"#!.*\b(perl|ruby|php|node|lua|tclsh)", first):
        return ()
    return calls_of(text, folder=folder, script=path)


def _imports(path: str, text: str) -> Iterator[Call]:
    """Yield the modules that a script of Python imports and that lie beside it, where such are."""
    for found in _PYTHON_IMPORT.finditer(text[:200_000]):
        line = text.count("\n", 0, found.start()) + 1
        for name in (found[1] or found[2]).split(","):
            yield Call(f"{dirname(path)}/{name.strip()}.py", "reads", line)
