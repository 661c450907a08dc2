"""What of the configuration file of an OpenLDAP server (slapd.conf(5)) is copied: who may write what, and no password.

A line that begins with a blank goes on with the one before, and so does what comes after a backslash at a line's end.
"""

from collections.abc import Iterator

__all__ = ["ACCESS_LISTING", "name_of", "only_rules", "whole_lines"]

# The listing of a directory's evidence that has the file of its server.
ACCESS_LISTING = "slapd.conf"
_OURS = frozenset({"access", "database", "include", "rootdn", "suffix"})


def only_rules(text: str) -> str:
    """Return a configuration without all that says nothing of access; lines keep their numbers."""
    lines = text.split("\n")
    kept = [""] * len(lines)
    for begin, end, whole in whole_lines(lines):
        if name_of(whole) in _OURS:
            kept[begin:end] = lines[begin:end]
    return "\n".join(kept)


def name_of(whole: str) -> str:
    """Return the name of a directive in small letters, empty for a line without one."""
    return whole.split(None, 1)[0].lower() if whole.strip() and not whole[:1].isspace() else ""


def whole_lines(lines: list[str]) -> Iterator[tuple[int, int, str]]:
    """Yield what stands together on several lines: where it begins and ends, and the text as one line."""
    begin = 0
    while begin < len(lines):
        parts, end = [lines[begin].rstrip("\r")], begin + 1
        # The server takes an inclusion by itself, whatever stands on the next line.
        included = parts[0].lower().startswith("include")
        while end < len(lines) and not included:
            following = lines[end].rstrip("\r")
            if parts[-1].endswith("\\") and not parts[-1].endswith("\\\\"):
                parts[-1] = parts[-1][:-1]
                parts.append(following)
            elif following[:1] in (" ", "\t"):
                parts.append(" " + following[1:])
            else:
                break
            end += 1
        yield begin, end, "".join(parts)
        begin = end
