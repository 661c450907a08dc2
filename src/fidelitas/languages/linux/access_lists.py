"""POSIX access control lists, as getfacl(1) prints them with numeric names; see acl(5).

    # file: usr/local/sbin/tool
    # owner: 0
    # group: 0
    user::rwx
    user:1003:rw-            #effective:r--
    group::r-x
    mask::r-x
    other::r-x

Knows the syntax only.  Default lists (``default:user:…``) say what new files inherit, not who may write now, and are skipped.
"""

import re
from collections.abc import Iterator

from fidelitas.facts import AccessEntry, AccessTag, Gap, Place
from fidelitas.text import decode

__all__ = ["read_access_lists", "unquoted"]

_OCTAL = re.compile(rb"\\([0-7]{3})")
_ENTRY = re.compile(r"(user|group|mask|other):([0-9]{0,10}):([r-])([w-])([x-])(?:[ \t]+#effective:[rwx-]{3})?\Z")


def read_access_lists(content: bytes, origin: Place) -> tuple[dict[str, tuple[AccessEntry, ...]], list[Gap]]:
    """Return the list of each path (absolute), and a gap for each line that is not in the language."""
    lists: dict[str, list[AccessEntry]] = {}
    gaps: list[Gap] = []
    inside: list[AccessEntry] = []
    for number, raw in enumerate(content.split(b"\n"), 1):
        line = decode(raw)
        if raw.startswith(b"# file: "):
            inside = lists.setdefault("/" + unquoted(raw.removeprefix(b"# file: ")), [])
        elif line and not line.startswith(("#", "default:")):
            found = _ENTRY.match(line)
            if found is None:
                weakens = "who can write this file"
                gaps.append(Gap(what="access control list", why=f'not an entry: "{line}"', weakens=weakens, place=origin.at(number)))
            else:
                inside.append(_entry(found))
    return {path: tuple(entries) for path, entries in lists.items()}, gaps


def _entry(found: re.Match[str]) -> AccessEntry:
    bits = sum(bit for bit, shown in zip((4, 2, 1), found.groups()[2:], strict=True) if shown != "-")
    return AccessEntry(tag=AccessTag(found[1]), id=int(found[2]) if found[2] else None, permissions=bits)


def unquoted(name: bytes) -> str:
    r"""Return a path as it is: getfacl(1) and getfattr(1) write odd bytes as ``\`` and three octal digits."""
    return decode(b"".join(_undone(name)))


def _undone(name: bytes) -> Iterator[bytes]:
    at = 0
    for found in _OCTAL.finditer(name):
        yield name[at : found.start()]
        yield bytes([int(found[1], 8) & 0xFF])
        at = found.end()
    yield name[at:]
