"""What a shell script, or a line of it, runs, reads as code, or takes options from: sh(1p), bash(1).

A bounded reader of intent, not a shell.  It knows the simple commands, where the script changes its folder, and variables that it sets to
plain text; what only a running shell can know is skipped.  In linear time: every line is looked at once.
"""

import re
from collections.abc import Sequence
from itertools import pairwise, takewhile
from posixpath import dirname, join, normpath

from msgspec import Struct, field

from fidelitas.languages.words import shell_words

__all__ = ["Call", "calls_of", "programs_of"]

# A script longer than this is not read further.
_MOST_LINES = 5000
_LONGEST = 4096
_MOST_CALLS = 500
_DEPTH = 4  # of commands within commands: sh -c, eval

_SHELLS = re.compile(r"(?:ba|da|k|mk|z|a)?sh\Z")
_INTERPRETERS = re.compile(
    r"(?:python[0-9.]*|perl[0-9.]*|ruby[0-9.]*|php[0-9.]*|node|lua[0-9.]*|tclsh[0-9.]*|wish|expect|awk|gawk|mawk|Rscript|osascript)\Z"
)
# Programs that run the command that follows, with how many words of their own come first (after options and variables).
_WRAPPERS = {
    "exec": 0, "env": 0, "nice": 0, "ionice": 0, "nohup": 0, "setsid": 0, "timeout": 1, "chronic": 0, "flock": 1, "systemd-cat": 0,
    "time": 0, "command": 0, "sudo": 0, "runuser": 0, "stdbuf": 0, "chrt": 1, "taskset": 1, "unshare": 0, "nsenter": 0, "systemd-run": 0,
    "dbus-launch": 0, "xargs": 0, "builtin": 0, "doas": 0, "setpriv": 0, "chpst": 0, "softlimit": 0, "busybox": 0,
    "watch": 0, "script": 0, "strace": 0, "ltrace": 0, "cgexec": 0, "numactl": 0, "prlimit": 0, "faketime": 1, "parallel": 0,
}  # fmt: skip
# Options of wrappers whose value is the next word.
_VALUED: dict[str, set[str]] = {
    "nice": {"-n"}, "ionice": {"-c", "-n", "-p"}, "timeout": {"-k", "-s"}, "env": {"-u", "-C", "-S"},
    "sudo": {"-u", "-g", "-C", "-D", "-h"},
    "doas": {"-u", "-C"}, "runuser": {"-u", "-g", "-G"}, "flock": {"-w", "-E"}, "xargs": {"-n", "-I", "-P", "-L", "-s", "-a", "-d", "-E"},
    "stdbuf": {"-i", "-o", "-e"}, "chpst": {"-u", "-U", "-e", "-m"},
    "systemd-run": {"-p", "-u", "-E", "-M"}, "watch": {"-n"}, "strace": {"-o", "-e", "-p"}, "exec": {"-a"},
}  # fmt: skip
# Programs that take a file name that begins with a dash for an option, and run what some option says.
_OPTION_TAKERS = frozenset({"tar", "rsync", "chown", "chmod", "7z", "7za", "zip", "cp", "mv", "scp", "find", "xargs", "ls", "git"})
_KEYWORDS = frozenset({"then", "do", "else", "elif", "if", "while", "until", "!", "{", "(", "time", "in", "coproc"})
_SKIPPED = frozenset({
    "[", "[[", "test", "echo", "printf", ":", "true", "false", "export", "readonly", "local", "declare", "unset", "shift", "set", "trap",
    "return", "exit", "read", "case", "esac", "fi", "done", "for", "function", "umask", "ulimit", "alias", "rm", "mkdir", "touch", "grep",
    "sed", "kill", "sleep", "wait", "logger",
})  # fmt: skip
_ASSIGNMENT = re.compile(r"([A-Za-z_][A-Za-z0-9_]*)=(.*)\Z", re.DOTALL)
_VARIABLE = re.compile(r"\$(?:\{([A-Za-z_][A-Za-z0-9_]*)(?:[:#%/^,-][^}]{0,200})?\}|([A-Za-z_][A-Za-z0-9_]*))")
_DIRNAME = r"\$\(\s*dirname\s(?:[^()]|\([^()]*\))*\)"
_OWN_FOLDER = re.compile(rf"\$\(\s*cd\s+\"?{_DIRNAME}[^()]*\)|{_DIRNAME}|\$\{{(?:0|BASH_SOURCE(?:\[0\])?)%/\*\}}|`dirname [^`]*`")
_HERE_DOCUMENT = re.compile(r"<<-?\s*(['\"]?)([A-Za-z_][A-Za-z0-9_]*)\1")


class Call(Struct, frozen=True):
    """A path that a script runs (`how` is "runs"), reads as code ("reads"), or from whose names it takes options ("names"), by a line."""

    path: str
    how: str
    line: int


class _Reader(Struct):
    folder: str | None  # the working folder, where it is known
    script: str | None  # the path of the script itself
    variables: dict[str, str] = field(default_factory=dict)
    found: list[Call] = field(default_factory=list)
    line: int = 1

    # -- lines -------------------------------------------------------------------------------------------------------------------

    def text(self, text: str) -> None:
        ends = None
        held = ""
        for number, line in enumerate(text.split("\n")[:_MOST_LINES], 1):
            if ends is not None:
                ends = None if line.strip() == ends else ends
                continue
            if not held:
                self.line = number
            if line.endswith("\\") and len(held) < _LONGEST:
                held += line[:-1] + " "
                continue
            whole, held = held + line, ""
            here = _HERE_DOCUMENT.search(whole)
            ends = here[2] if here else None
            self.command_line(whole)
            if len(self.found) > _MOST_CALLS:
                return

    def command_line(self, line: str, depth: int = 0) -> None:
        if len(line) > _LONGEST or depth > _DEPTH or line.lstrip().startswith("#"):
            return
        shown = _OWN_FOLDER.sub(dirname(self.script) if self.script else ".", line)
        try:
            words = shell_words(shown, comments=True, operators=True)
        except ValueError:  # a quote that goes on in the next line
            words = shown.split()
        simple: list[str] = []
        pipeline: list[list[str]] = []
        for word in (*words, ";"):
            if word and set(word) <= set("();|&"):
                if simple:
                    self.simple(simple, pipeline, depth)
                    pipeline = [*pipeline, simple] if word == "|" else []
                simple = []
            else:
                simple.append(word)

    # -- one command -------------------------------------------------------------------------------------------------------------

    def simple(self, words: Sequence[str], before: Sequence[Sequence[str]], depth: int) -> None:
        """A simple command: variables, then the program and its arguments, and what it reads."""
        words, inputs = _redirections([self.expanded(word) for word in words])
        at = 0
        while at < len(words) and (words[at] in _KEYWORDS or _ASSIGNMENT.match(words[at])):
            self.assign(words[at])
            at += 1
        rest = words[at:]
        if not rest:
            return
        name, arguments = rest[0].rpartition("/")[2], rest[1:]
        if name in _SKIPPED and "/" not in rest[0]:
            for word in arguments if name in ("export", "readonly", "local", "declare") else ():
                self.assign(word)
            return
        if name in ("cd", "pushd") and arguments:
            self.folder = self.path(arguments[-1])
            return
        self.add(rest[0], "runs", program=True)
        self.arguments(name, arguments, inputs, before, depth)

    def assign(self, word: str) -> None:
        found = _ASSIGNMENT.match(word)
        if found is not None:
            self.variables[found[1]] = found[2]

    def arguments(self, name: str, arguments: Sequence[str], inputs: Sequence[str], before: Sequence[Sequence[str]], depth: int) -> None:
        """What a program runs or reads because of its arguments."""
        if name in (".", "source") and arguments:
            self.add(arguments[0], "reads")
        elif _SHELLS.match(name):
            self.shell(arguments, [*inputs, *_files(before)], depth)
        elif name == "eval":
            self.command_line(" ".join(arguments), depth + 1)
        elif name in ("su", "runuser") and "-c" in arguments[:-1]:
            self.command_line(arguments[arguments.index("-c") + 1], depth + 1)
        elif _INTERPRETERS.match(name):
            self.interpreter(name, arguments, inputs)
        elif name == "run-parts":
            for word in arguments:
                if not word.startswith("-"):
                    self.add(word, "runs")
        elif name == "make":
            self.make(arguments)
        elif name == "start-stop-daemon":
            self.daemon(arguments, depth)
        elif name in _WRAPPERS:
            self.wrapped(name, arguments, depth)
        if name == "find":
            for flag in ("-exec", "-execdir", "-ok"):
                if flag in arguments[:-1]:
                    self.simple(arguments[arguments.index(flag) + 1 :], (), depth + 1)
        options = takewhile(lambda word: word != "--", arguments)
        if name in _OPTION_TAKERS and any(word.startswith("*") for word in options) and self.folder:
            self.found.append(Call(self.folder, "names", self.line))

    def shell(self, arguments: Sequence[str], inputs: Sequence[str], depth: int) -> None:
        for at, word in enumerate(arguments):
            if word.startswith("-") and "c" in word[1:] and not word.startswith("--"):
                if at + 1 < len(arguments):
                    self.command_line(arguments[at + 1], depth + 1)
                return
            if word in ("--rcfile", "--init-file"):
                continue
            if not word.startswith(("-", "+")):
                self.add(word, "runs")
                return
        for word in inputs:
            self.add(word, "reads")

    def interpreter(self, name: str, arguments: Sequence[str], inputs: Sequence[str]) -> None:
        at = 0
        while at < len(arguments):
            word = arguments[at]
            if word == "-f" or (word in ("-r", "-I") and not name.startswith("python")):
                at += 1
                if at < len(arguments):
                    self.add(arguments[at], "reads")
                if name.endswith("awk"):
                    return
            elif word == "-m" and name.startswith("python"):
                if self.folder:  # the working folder is the first from which modules are taken
                    self.found.append(
                        Call(join(self.folder, f"{arguments[at + 1]}.py" if at + 1 < len(arguments) else ""), "reads", self.line)
                    )
                return
            elif word in ("-c", "-e", "-E", "-n", "-p") and name != "lua":
                return
            elif not word.startswith("-"):
                if not name.endswith("awk"):
                    self.add(word, "runs")
                return
            at += 1
        for word in inputs:
            self.add(word, "reads")

    def make(self, arguments: Sequence[str]) -> None:
        folder = self.folder
        for flag, word in pairwise(arguments):
            if flag in ("-C", "--directory"):
                folder = self.path(word)
            elif flag in ("-f", "--file"):
                self.add(word, "reads")
        if folder:
            self.found.append(Call(join(folder, "Makefile"), "reads", self.line))

    def daemon(self, arguments: Sequence[str], depth: int) -> None:
        """What start-stop-daemon(8) starts, by its options, with the arguments behind "--"."""
        own = list(takewhile(lambda word: word != "--", arguments))
        for option, word in pairwise((*own, "")):
            name, _, value = option.partition("=")
            if name in ("-x", "--exec", "-a", "--startas") and depth <= _DEPTH:
                self.simple([value or word, *arguments[len(own) + 1 :]], (), depth + 1)

    def wrapped(self, name: str, arguments: Sequence[str], depth: int) -> None:
        """The command that a wrapper runs: behind its options, its variables and its own words."""
        at, own, valued = 0, _WRAPPERS[name], _VALUED.get(name, set())
        while at < len(arguments):
            word = arguments[at]
            if word.startswith("-"):
                at += 2 if word in valued else 1
            elif _ASSIGNMENT.match(word):
                self.assign(word)
                at += 1
            elif own:
                own -= 1
                at += 1
            else:
                break
        if depth <= _DEPTH and at < len(arguments):
            self.simple(arguments[at:], (), depth + 1)

    # -- paths -------------------------------------------------------------------------------------------------------------------

    def expanded(self, word: str) -> str:
        if "$" not in word:
            return word
        return _VARIABLE.sub(lambda found: self.variables.get(found[1] or found[2], found[0]), word)

    def path(self, word: str) -> str | None:
        """Return a word as an absolute path, where it can be known."""
        if not word or any(sign in word for sign in "$`*?[\n") or len(word) > 1000:
            return None
        if word.startswith("/"):
            return normpath(word).replace("//", "/")
        if word.startswith("~"):
            return None
        return normpath(join(self.folder, word)) if self.folder else None

    def add(self, word: str, how: str, *, program: bool = False) -> None:
        if program and "/" not in word:  # it is looked for in the search path
            return
        path = self.path(word)
        if path is not None and path != "/":
            self.found.append(Call(path, how, self.line))


def _redirections(words: Sequence[str]) -> tuple[list[str], list[str]]:
    """Return the words of a command without redirections, and the files that it reads."""
    kept: list[str] = []
    inputs: list[str] = []
    at = 0
    while at < len(words):
        word = words[at]
        if word and set(word) <= set("<>&") and set(word) & set("<>"):
            if word == "<" and at + 1 < len(words):
                inputs.append(words[at + 1])
            if kept and kept[-1].isdecimal():
                kept.pop()
            at += 2
            continue
        kept.append(word)
        at += 1
    return kept, inputs


def _files(before: Sequence[Sequence[str]]) -> list[str]:
    """Return the files that the commands before a pipe print."""
    return [word for words in before for word in words[1:] if words[0].rpartition("/")[2] in ("cat", "zcat", "base64", "tee", "head")]


def calls_of(
    text: str, *, folder: str | None = None, script: str | None = None, variables: dict[str, str] | None = None
) -> tuple[Call, ...]:
    """Return what a script or a command line runs and reads, in order, each once; `folder` is where it is started, if that is known."""
    reader = _Reader(folder, script, dict(variables or {}))
    reader.text(text)
    return tuple(dict.fromkeys(reader.found))


def programs_of(command: str, folder: str | None = None) -> tuple[str, ...]:
    """Return the paths of the programs and scripts that a command line starts or reads, in order, each once."""
    return tuple(dict.fromkeys(call.path for call in calls_of(command, folder=folder) if call.how != "names"))
