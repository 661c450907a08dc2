"""What a logged command line runs, reads and writes, as far as its words say (sh(1), and the manuals of the programs in the tables).

A line of a log is no program text: sudo writes words with blanks in quotation marks, others leave them out.  What is not clear is left
out; nothing is run and nothing is expanded but what stands in the words.
"""

import posixpath
import re
import shlex
from collections.abc import Iterator, Sequence
from functools import lru_cache
from itertools import takewhile
from typing import NamedTuple

from fidelitas.usage.command_words import CONTAINERS, OPERANDS, OUTPUTS, SHELLS, WRAPPERS

__all__ = [
    "DEPTH", "INTERPRETERS", "LONGEST", "Simple", "is_editor", "parts_of_script", "runs_of_find", "script_of", "simple_commands",
    "split_words", "started",
]  # fmt: skip

# Quotation marks of longer lines are not followed, which takes long, but all their words count: a filled line hides none of them.
LONGEST, _MOST = 4096, 1 << 20
DEPTH = 50  # of shells within shells
_MOST_OPTIONS = 20
_LOADER = re.compile(r"ld(?:-linux[A-Za-z0-9_-]*)?\.so(?:\.\d{1,4}){0,3}\Z")
# In what has none of these a word is what stands between blanks.
_NEEDS_SHELL = re.compile(r"""['"\\\s](?<! )""")
_ASSIGNMENT = re.compile(r"[A-Za-z_]\w*=")
# What parts the commands of a script, and what it sends to files or takes from them.
_PARTS = re.compile(r"&&|\|\||\$\(|[;|&\n`()]")
_REDIRECTION = re.compile(r"(?:\d?|&)(?P<sign>>>|>\||>|<)\s*(?P<file>[^\s;|&<>()]+)")
_NAMED_PATH = re.compile(r"[-\w.@]*[=:](?=[/~])")
_BRACES = re.compile(r"\{([^{}]*)\}")
_IN_CODE = re.compile(r"/[\w./~-]+")
_CODE_WRITES = re.compile(r"""['"][wax]b?\+?b?['"]|write|unlink|remove|rename|chmod|chown|truncate|rmtree|copy""")
INTERPRETERS = re.compile(r"(?:python|perl|ruby|node|php|lua)[\d.]*\Z")
_EDITORS = re.compile(r"(?:r?vim?|view|nvim|nano|pico|ed|ex|emacs|joe|micro|sudoedit|mcedit|vigr|vipw)\Z")
_CHANGES_ALL = frozenset({
    "tee", "rm", "unlink", "truncate", "shred", "chmod", "chown", "chgrp", "chattr", "setfacl", "touch", "patch", "utmpdump", "wipe",
    "srm", "rmdir", "mv",
})  # fmt: skip
_COPIES = frozenset({"cp", "install", "rsync", "scp", "ln"})
_ARCHIVERS, _EXTRACTS = frozenset({"tar", "bsdtar"}), re.compile(r"-{0,2}\w*x|.*\s-\w*x|.*--(?:extract|get)\b", re.DOTALL)
_OF_PROCESS = re.compile(r"/proc/(?:\d+|self|thread-self|\$\$)/root(?=/|\Z)")  # the root folder, as a process has it


# What posixpath.normpath would change.
_NOT_NORMAL = re.compile(r"//|/\.|/\Z|/root/")
# A word that is a file of the folder, not a number, a mode or a name of something else; and files without an ending.
_LIKE_FILE = re.compile(r"/|\.[A-Za-z]|[*?\[]")
_BARE_NAMES = frozenset({
    "shadow", "gshadow", "shadow-", "passwd", "group", "sudoers", "wtmp", "btmp", "lastlog", "syslog", "messages", "secure", "faillog",
    "environ", "mem", "id_rsa", "id_ed25519", "id_ecdsa",
})  # fmt: skip


class Simple(NamedTuple):
    """One program with its words, and which paths it reads and writes."""

    program: str
    words: tuple[str, ...]
    reads: tuple[str, ...]
    writes: tuple[str, ...]


@lru_cache(maxsize=100)
def simple_commands(command: str, folder: str = "") -> tuple[Simple, ...]:
    """Return the programs that a command line runs, paths absolute and normal; relative ones are of `folder`."""
    return tuple(_of_words(split_words(command), folder, (), (), DEPTH))


@lru_cache(maxsize=100)
def split_words(text: str) -> tuple[str, ...]:
    """Return the words of a command line, as a shell parts them, as far as that can be."""
    return tuple(_words(text))


def _words(text: str) -> list[str]:
    if not _NEEDS_SHELL.search(text):
        return [word for word in text.split(" ") if word]
    if len(text) > LONGEST:
        return [word.strip("'\"") for word in text[:_MOST].split()]
    try:
        return shlex.split(text)
    except ValueError:  # an apostrophe is no quotation mark in what other logs write
        return text.split()


def _of_words(words: Sequence[str], folder: str, reads: tuple[str, ...], writes: tuple[str, ...], depth: int) -> Iterator[Simple]:
    program, rest = started(words)
    if not program or depth == 0:
        return
    script = script_of(program, rest)
    if script is not None:
        yield from _of_script(script, folder, depth - 1)
        return
    if program == "find":
        yield from _found(rest, folder, depth)
        return
    read, written = _paths(program, rest)
    yield Simple(program, tuple(rest), tuple(_absolute((*read, *reads), folder)), tuple(_absolute((*written, *writes), folder)))


def started(words: Sequence[str]) -> tuple[str, list[str]]:
    """Return the program that words run, without those that only start it, and its words; a wrapper that starts nothing is the program."""
    at = 0
    while at < len(words):
        at += 1
        if _ASSIGNMENT.match(words[at - 1]):
            continue
        name = words[at - 1].rpartition("/")[2].lstrip("-")
        if name == "capsh" and "--" in words[at:]:  # capsh(1): what follows is for bash
            return "bash", list(words[list(words).index("--", at) + 1 :])
        onward = _onward("ld.so" if _LOADER.match(name) else name, words, at)
        if onward >= len(words):
            return name, list(words[at:])
        at = onward
        if name == "env" and " " in words[at]:  # all that is to run in one word (-S)
            words, at = [*words[at].split(), *words[at + 1 :]], 0
    return "", []


def _onward(name: str, words: Sequence[str], at: int) -> int:
    """Return where the program stands that a wrapper starts, whose words begin there; no wrapper, or one that starts nothing, none."""
    if name in CONTAINERS:
        verbs, taking = CONTAINERS[name]
        ran = next((number for number in range(at, len(words)) if words[number] in verbs), len(words))
        inside = _after_options(words, ran + 1, taking) + 1
        inside = _after_options(words, inside, taking) if name == "kubectl" else inside
        return inside + (list(words[inside : inside + 1]) == ["--"])
    if name not in WRAPPERS or (name in ("su", "runuser") and "-u" not in words[at : at + _MOST_OPTIONS]):
        return len(words)
    if name == "ip":
        return at + 3 if list(words[at : at + 2]) == ["netns", "exec"] else len(words)
    return _after_options(words, at, WRAPPERS[name]) + OPERANDS.get(name, 0)


def _after_options(words: Sequence[str], at: int, taking: frozenset[str]) -> int:
    while at < len(words) and words[at].startswith("-") and words[at] != "-":
        if words[at] == "--":
            return at + 1
        name = words[at].lstrip("-")
        at += 2 if name in taking and (len(name) == 1) == (not words[at].startswith("--")) else 1
    return at


def is_editor(program: str) -> bool:
    """Return whether a program is one for editing files."""
    return _EDITORS.match(program) is not None


def script_of(program: str, words: Sequence[str]) -> str | None:
    """Return the text that a shell is given with -c; words that follow belong to it where a log leaves the quotation marks out."""
    if program not in SHELLS and program not in ("su", "runuser", "script"):
        return None
    for number, word in enumerate(words):
        if word in ("-c", "--command") or (re.fullmatch(r"-[a-z]*c", word) and program in SHELLS):
            return " ".join(words[number + 1 :])
        if word.startswith("--command="):
            return word.partition("=")[2]
    return None


def parts_of_script(script: str) -> Iterator[tuple[tuple[str, ...], list[tuple[str, str]]]]:
    """Yield the words of each command of a script, and its redirections: sign and file."""
    for part in _PARTS.split(script):
        signs = [(found["sign"], found["file"].strip("'\"")) for found in _REDIRECTION.finditer(part)]
        yield split_words(_REDIRECTION.sub(" ", part)), signs


def _of_script(script: str, folder: str, depth: int) -> Iterator[Simple]:
    for words, signs in parts_of_script(script):
        if words[:1] == ("cd",) and len(words) > 1:
            folder = posixpath.join(folder or "/", words[1])
        reads = tuple(file for sign, file in signs if sign == "<")
        writes = tuple(file for sign, file in signs if sign != "<")
        yield from _of_words(words or (":",) if signs else words, folder, reads, writes, depth)


def _found(words: Sequence[str], folder: str, depth: int) -> Iterator[Simple]:
    """Yield what find(1) does with the files below the paths that it starts from."""
    runs = list(runs_of_find(words))
    starts = _starts_of_find(words)
    for run in runs:
        yield from _of_words(run, folder, (), (), depth - 1)
    if "-delete" in words:
        yield from _of_words(["rm", "-r", *starts], folder, (), (), depth - 1)
    elif not runs:
        yield Simple("find", tuple(words), (), ())


def _starts_of_find(words: Sequence[str]) -> Sequence[str]:
    return words[: next((number for number, word in enumerate(words) if word.startswith(("-", "(", "!"))), len(words))]


def runs_of_find(words: Sequence[str]) -> Iterator[list[str]]:
    """Yield the commands that find(1) is given; all words up to the end of one are its own, another ``-exec`` among them."""
    coming, starts = iter(words), _starts_of_find(words)
    for word in coming:
        if word in ("-exec", "-execdir", "-ok", "-okdir"):
            run = list(takewhile(lambda one: one not in (";", "+"), coming))
            at = run.index("{}") if "{}" in run else len(run)
            yield [*run[:at], *(starts if at < len(run) else ()), *(starts[0] if one == "{}" and starts else one for one in run[at + 1 :])]


def _paths(program: str, words: Sequence[str]) -> tuple[list[str], list[str]]:
    """Return which words a program reads from, and which it writes to."""
    outputs, words = _outputs(program, words)
    read, written = _operands(program, words)
    if program in _COPIES or program == "mv":
        return ([*read, *written], outputs) if outputs else (read, written)
    if program in _ARCHIVERS and outputs and not _EXTRACTS.match(" ".join(words)):  # to take from there what is named
        return [posixpath.join(outputs[-1], one) for one in read], []
    return read, [*written, *outputs]


def _outputs(program: str, words: Sequence[str]) -> tuple[list[str], Sequence[str]]:
    """Return the words that stand behind options for what is written to, and the others."""
    options, found, left = OUTPUTS.get(program), list[str](), list[str]()
    if options is None:
        return found, words
    coming = iter(words)
    for word in coming:
        option = next((one for one in options if word.startswith((f"{one}=", f"{one}/"))), None)
        if word in options:
            found += [one for one in (next(coming, ""),) if one]
        elif option is not None:
            found.append(word[len(option) :].lstrip("="))
        else:
            left.append(word)
    return found, left


def _operands(program: str, words: Sequence[str]) -> tuple[list[str], list[str]]:
    named = [_value(word) for word in words if not word.startswith("-") or "=" in word]
    if program == "dd":
        return [w[3:] for w in words if w.startswith("if=")], [w[3:] for w in words if w.startswith("of=")]
    if program == "debugfs":
        return [*named, *(path for word in words if " " in word for path in _IN_CODE.findall(word))], []
    if INTERPRETERS.match(program):
        code = next((words[number + 1] for number, word in enumerate(words[:-1]) if word in ("-c", "-e", "-ne", "-pe", "-r")), None)
        in_place = any(re.fullmatch(r"-(?=\w*i)[.\w]*", word) for word in words)
        inside = _IN_CODE.findall(" ".join(words)) if code is not None else []
        changes = in_place or (code is not None and _CODE_WRITES.search(" ".join(words)) is not None)
        return [*named, *inside], [*named, *inside] if changes else []
    if program == "sed":
        return named, named if any(re.match(r"-\w*i|--in-place", word) for word in words) else []
    if program in _COPIES:
        return named[:-1], named[-1:]
    if _EDITORS.match(program) or program in _CHANGES_ALL:
        return [] if program != "mv" and not _EDITORS.match(program) else named, named
    return named, []


def _value(word: str) -> str:
    """Return the path of a word such as ``--file=/etc/shadow`` or ``host:/etc/shadow``."""
    found = _NAMED_PATH.match(word) if "=" in word or ":" in word else None
    return word[found.end() :] if found else word


def _absolute(words: Sequence[str], folder: str) -> Iterator[str]:
    for word in words:
        for one in _braces(word):
            relative = folder.startswith("/") and (_LIKE_FILE.search(one) or one in _BARE_NAMES)
            path = one if one.startswith("/") else posixpath.join(folder, one) if relative else ""
            if path:
                yield _normal(path) if _NOT_NORMAL.search(path) else path


def _normal(path: str) -> str:
    normal = _OF_PROCESS.sub("", posixpath.normpath(path)) or "/"
    return normal[1:] if normal.startswith("//") else normal


def _braces(word: str) -> list[str]:
    """Return the words of one with alternatives in braces."""
    found = next((one for one in _BRACES.finditer(word) if "," in one[1]), None) if "{" in word else None
    return [word] if found is None else [word[: found.start()] + one + word[found.end() :] for one in found[1].split(",")[:50]]
