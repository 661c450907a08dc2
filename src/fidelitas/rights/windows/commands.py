"""Which program a command line of a service or task starts: CreateProcess tries what stands before each blank of one without quotes."""

import re

__all__ = ["folder_of", "is_unquoted", "programs_tried", "same_path"]

# Longer command lines are none (CreateProcess takes 32,767 letters), and more blanks than this nobody's path has.
_LONGEST, _MOST_BLANKS = 32_767, 60


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


def folder_of(path: str) -> str:
    """Return the folder that a path lies in."""
    return path.rpartition("\\")[0] + ("\\" if re.fullmatch(r"[A-Za-z]:", path.rpartition("\\")[0]) else "")


def same_path(path: str) -> str:
    """Return a path in a form in which equal ones are equal: Windows does not tell letters by their case."""
    return path.replace("/", "\\").lower().rstrip("\\")


def _with_suffix(path: str) -> str:
    return path if re.search(r"\.\w{1,4}\Z", path) else f"{path}.exe"
