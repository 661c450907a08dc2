"""Which files a command line of a service or task runs: its program, and what that is given to run.

CreateProcess tries what stands before each blank of a path without quotes.  What interpreters and loaders run stands in their arguments: by
the documentation of each.
"""

import re
from collections.abc import Callable, Iterator, Sequence
from itertools import islice

__all__ = ["files_run", "folder_of", "folders_above", "is_unquoted", "programs_tried", "same_path"]

# Longer command lines are none (CreateProcess takes 32,767 letters), and more blanks than this nobody's path has.
_LONGEST, _MOST_BLANKS = 32_767, 60
_DEEPEST = 4
_WORD = re.compile(r'((?:"[^"]*"|[^\s"])+)')
# A path of a disk of the machine in a text for an interpreter.
_PATH = re.compile(r"""['"]([A-Za-z]:[\\/][^'"|<>*?]+)['"]|(?<![\w\\/])([A-Za-z]:[\\/][^\s'"|<>*?;&,]+)""")
# A whole command of cmd.exe that is one path in quotes: of others it takes the outer quotes away.
_ONE_QUOTED = re.compile(r'"[^"]*\.\w{1,4}"\Z')
_SCRIPT = re.compile(
    r"\.(?:ps1|psm1|psd1|bat|cmd|exe|com|dll|ocx|cpl|vbs|vbe|js|jse|wsf|wsh|hta|msi|msp|mst|py|pyw|pl|rb|jar|php|sh)\Z", re.IGNORECASE
)


def programs_tried(command: str) -> list[str]:
    """Return the paths that are tried as the program of a command line, in their order; one in quotes is the only one."""
    text = command.strip()[:_LONGEST]
    if text.startswith('"'):
        return [text[1:].partition('"')[0]]
    cuts = [found.start() for found in re.finditer(" ", text)][:_MOST_BLANKS]
    return [_with_suffix(text[:cut]) for cut in (*cuts, len(text)) if text[:cut].strip() and not text[:cut].endswith(" ")]


def is_unquoted(command: str) -> bool:
    """Return whether the path of the program has a blank in it and no quotes about it."""
    program = re.match(r"[^\"]*?\.(?:exe|com|bat|cmd)(?=\s|\Z)", command.strip(), re.IGNORECASE)
    return program is not None and " " in program[0]


def files_run(command: str, depth: int = 0) -> list[str]:
    """Return the scripts, libraries and packages that the arguments of a program name to run or load, by their paths."""
    program, arguments = _parted(command[:_LONGEST])
    name = program.replace("/", "\\").rpartition("\\")[2].lower().removesuffix(".exe")
    reader = _READERS.get(name.rstrip("0123456789."))
    if reader is None or depth > _DEEPEST:
        return []
    return list(dict.fromkeys(path for path in reader(arguments, depth) if re.match(r"[A-Za-z]:[\\/]", path)))


def folder_of(path: str) -> str:
    """Return the folder that a path is in."""
    return path.rpartition("\\")[0] + ("\\" if re.fullmatch(r"[A-Za-z]:", path.rpartition("\\")[0]) else "")


def folders_above(folder: str) -> Iterator[str]:
    """Yield the folders that a folder is in, the nearest first."""
    while not re.fullmatch(r"[A-Za-z]:\\?|", folder):
        folder = folder_of(folder)
        yield folder


def same_path(path: str) -> str:
    """Return a path in a form in which equal ones are equal: Windows does not tell letters by their case."""
    return path.replace("/", "\\").lower().rstrip("\\")


def _with_suffix(path: str) -> str:
    return path if re.search(r"\.\w{1,4}\Z", path) else f"{path}.exe"


def _parted(command: str) -> tuple[str, str]:
    """Return the program of a command line, and the rest; of one without quotes, the words up to the first that ends like a program."""
    text = command.strip()
    if text.startswith('"'):
        program, _, rest = text[1:].partition('"')
        return program, rest.strip()
    found = re.match(r"[A-Za-z]:[\\/][^\"]*?\.(?:exe|com|bat|cmd)(?=\s|\Z)", text, re.IGNORECASE)
    end = found.end() if found is not None else len(text.partition(" ")[0])
    return text[:end], text[end:].strip()


def _words(text: str) -> list[str]:
    return [found[1].replace('"', "") for found in _WORD.finditer(text)]


def _paths_in(text: str) -> Iterator[str]:
    """Yield the paths in a text that end like something that runs."""
    for found in _PATH.finditer(text):
        path = (found[1] or found[2]).rstrip(".)")
        if _SCRIPT.search(path):
            yield path


# -- readers of arguments: each yields paths ------------------------------------------------------------------------------------------


def _power_shell(text: str, _: int) -> Iterator[str]:
    """-File takes the rest as a script and its arguments; without it, and after -Command, the rest is commands."""
    found = re.search(r"(?:^|\s)[-/]f(?:i(?:l(?:e)?)?)?\s+(\"[^\"]+\"|'[^']+'|\S+)", text, re.IGNORECASE)
    if found is not None:
        yield found[1].strip("\"'")
    yield from _paths_in(text)


def _shell(text: str, depth: int) -> Iterator[str]:
    """Return what cmd.exe runs: what stands after /c, /k or /r, a command line of its own, or several."""
    found = re.search(r"(?:^|\s)/[ckr]\s*(.*)\Z", text, re.IGNORECASE | re.DOTALL)
    if found is None:
        return
    inner = found[1].strip()
    if inner.startswith('"') and inner.endswith('"') and not _ONE_QUOTED.match(inner):
        inner = inner[1:-1]
    for part in re.split(r"&&|\|\||[&|]", inner):
        line = re.sub(r"^\s*(?:@|call\s+|start\s+(?:\"[^\"]*\"\s+)?(?:/\w+\s+)*)", "", part.strip(), flags=re.IGNORECASE)
        program, _ = _parted(line)
        yield _with_known_suffix(program)
        yield from files_run(line, depth + 1)


def _with_known_suffix(path: str) -> str:
    return path if re.search(r"\.\w{1,4}\Z", path) else f"{path}.exe"


def _first(options: str = "-/") -> Callable[[str, int], Iterator[str]]:
    """Return a reader of programs that run the first argument that is not an option."""

    def read(text: str, _: int) -> Iterator[str]:
        yield from (word for word in _words(text) if word and word[0] not in options)

    return lambda text, depth: islice(read(text, depth), 1)


def _after(*options: str) -> Callable[[str, int], Iterator[str]]:
    """Return a reader of programs that run or load what stands after an option, or directly behind it."""

    def read(text: str, _: int) -> Iterator[str]:
        words = _words(text)
        for word, following in zip(words, [*words[1:], ""], strict=False):
            lowered = word.lower()
            if lowered in options:
                yield following
            else:
                yield from (word[len(option) :] for option in options if lowered.startswith(option) and len(word) > len(option) + 2)

    return read


def _library(text: str, _: int) -> Iterator[str]:
    """Return the library that rundll32 loads: what stands before the comma or blank."""
    found = re.match(r'"([^"]+)"|([^,"]+?\.\w{2,4}(?=[,\s]|\Z)|[^,\s"]+)', text.lstrip())
    if found is not None:
        yield found[1] or found[2]


def _command_after(text: str, depth: int) -> Iterator[str]:
    """Return what a program runs that takes a command line as its arguments."""
    words: Sequence[str] = [found[1] for found in _WORD.finditer(text)]
    line = " ".join(words[next((at for at, word in enumerate(words) if word[0] not in "-/"), len(words)) :])
    if line:
        yield _with_known_suffix(_parted(line)[0])
        yield from files_run(line, depth + 1)


def _any(text: str, _: int) -> Iterator[str]:
    return _paths_in(text)


_SCRIPTED = _first("-")
_READERS: dict[str, Callable[[str, int], Iterator[str]]] = {
    "powershell": _power_shell, "pwsh": _power_shell, "cmd": _shell, "rundll": _library, "regsvr": _first(), "control": _first(),
    "wscript": _first(), "cscript": _first(), "mshta": _first(), "hh": _first(), "msbuild": _first(), "installutil": _first(),
    "msiexec": _after("/i", "-i", "/package", "/p", "/update", "/x"), "regasm": _first(), "pcalua": _after("-a"), "odbcconf": _any,
    "java": _after("-jar"), "javaw": _after("-jar"), "conhost": _command_after, "forfiles": _any, "wmic": _any,
    **dict.fromkeys(("python", "pythonw", "py", "perl", "ruby", "node", "php", "bash", "sh"), _SCRIPTED),
}  # fmt: skip
