"""Texts that tools of Windows print: an export of ``secedit``, and ``net localgroup`` or ``net group``, in the language of Windows.

Of the latter only what does not depend on it is relied on: a line of hyphens before the members, an empty line or the end after them.
"""

import re
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from fidelitas.facts import LocalGroup, LocalMember, Place, UserRight

__all__ = [
    "ADMINISTRATORS", "GroupText", "is_account_text", "is_group_listing", "is_group_text", "is_user_rights", "read_group_text",
    "read_user_rights",
]  # fmt: skip

# The line of hyphens above the members; in UTF-16 with a zero to each.
_LONG_RULE = re.compile(rb"\n-{40,}\r?\n")
_LARGEST = 1 << 20
_SECTIONS = re.compile(
    rb"(?:\xff\xfe|\xfe\xff|\xef\xbb\xbf)?\s*(?:\[[^\]\n]*\]\s.*\n)?\[privilege rights\][ \t]*\r?\n", re.IGNORECASE | re.DOTALL
)
_RULE = re.compile(r"-{20,}\s*\Z")
# Two blanks or more stand between names of one line.
_COLUMNS = re.compile(r"(?<=\S)\s{2,}(?=\S)")
# A line of equals signs below the heads of a table; a line of a name and a value far apart.
_TABLE, _PAIR, _FEWEST_PAIRS = re.compile(rb"=+( =+)+\s*\Z"), re.compile(rb"[^\s=\[#\"{<][^=\[#\"{<]{0,40}?\s{3,}\S"), 10
# What the built-in group of administrators is called where a text tells no SID.
ADMINISTRATORS = {
    "administrators": "English or Dutch", "administratoren": "German", "administrateurs": "French", "amministratori": "Italian",
    "administradores": "Spanish or Portuguese", "administratorzy": "Polish", "administratörer": "Swedish",
    "administratorer": "Danish or Norwegian", "järjestelmänvalvojat": "Finnish", "rendszergazdák": "Hungarian", "správci": "Czech",
    "yöneticiler": "Turkish", "администраторы": "Russian",
}  # fmt: skip


def _lines(text: str) -> list[str]:
    return text.replace("\r\n", "\n").replace("\r", "\n").split("\n")


def is_group_listing(content: bytes) -> bool:
    """Return whether a file is what ``net localgroup NAME`` printed, in whatever encoding."""
    return len(content) <= _LARGEST and _LONG_RULE.search(content.replace(b"\0", b"")) is not None


def is_user_rights(content: bytes) -> bool:
    """Return whether a file is an export of ``secedit`` with user rights: sections from its first line on, theirs among them."""
    return len(content) <= _LARGEST and _SECTIONS.match(content.replace(b"\0", b"")) is not None


def is_account_text(content: bytes) -> bool:
    """Return whether a file is what ``net user NAME`` or ``whoami /all`` printed: lines of two columns, or tables with SIDs below rules."""
    if len(content) > _LARGEST or content.startswith((b"dn:", b"version:")):
        return False
    lines = content.replace(b"\0", b"").replace(b"\r", b"").split(b"\n")
    ruled = any(_TABLE.match(line) for line in lines) and any(b"S-1-5-" in line for line in lines)
    pairs = sum(_PAIR.match(line) is not None for line in lines)
    return ruled or (pairs >= _FEWEST_PAIRS and pairs * 3 >= 2 * sum(bool(line.strip()) for line in lines))


def is_group_text(text: str) -> bool:
    """Return whether a text is what ``net localgroup NAME`` prints: words and a name, then a line of hyphens, then lines."""
    lines = _lines(text)
    named = next((line for line in lines if line.strip()), "")
    return _named_group(named) != "" and sum(_RULE.match(line) is not None for line in lines) == 1


def _named_group(line: str) -> str:
    """Return the name that stands behind words and at least two blanks, empty where none does."""
    _, *name = _COLUMNS.split(line.rstrip(), maxsplit=1)
    return name[0] if name and not line[0].isspace() else ""


class GroupText(NamedTuple):
    """A group as a text shows it; `whole` is false where the text ends before its last line, `of_domain` where it is of ``net group``."""

    group: LocalGroup
    whole: bool
    of_domain: bool


def read_group_text(text: str, origin: Place) -> GroupText:
    """Return the group that ``net localgroup NAME`` or ``net group NAME`` shows.  Neither it nor its members have SIDs here.

    The last line says in some language that the command has succeeded: it is a sentence, or an empty line follows it, and it never has a
    backslash.  ``net group`` has three members in a line.
    """
    lines = _lines(text)
    named = next((number for number, line in enumerate(lines) if line.strip()), 0)
    below = next((number for number, line in enumerate(lines) if _RULE.match(line)), len(lines)) + 1
    found = [(number, line) for number, line in enumerate(lines[below:], below + 1) if line.strip()]
    whole = bool(found) and _is_end(found[-1][1], followed=lines[found[-1][0] :])
    members = [(number, name) for number, line in (found[:-1] if whole else found) for name in _names(line)]
    group = LocalGroup(
        name=_named_group(lines[named]) or lines[named].strip(),
        sid=None,
        members=tuple(LocalMember(sid=None, name=name, group=None, place=origin.at(number)) for number, name in members),
        place=origin.at(named + 1),
    )
    return GroupText(group, whole, of_domain=any(_COLUMNS.search(line) for _, line in (found[:-1] if whole else found)))


def _is_end(line: str, *, followed: Sequence[str]) -> bool:
    sentence = line.strip().endswith((".", "。", "!"))
    return "\\" not in line and (sentence or (len(followed) > 1 and not followed[0].strip()))


def _names(line: str) -> list[str]:
    return [name for name in _COLUMNS.split(line.strip()) if name]


def read_user_rights(text: str, origin: Place) -> Iterator[UserRight]:
    """Yield the rights of an export of ``secedit /export /areas USER_RIGHTS``: ``SeRight = *SID,*SID,name`` a line of a section."""
    section = ""
    for number, line in enumerate(_lines(text), 1):
        if line.startswith("["):
            section = line.strip().lower()
        name, equals, holders = line.partition("=")
        if section == "[privilege rights]" and equals:
            for holder in holders.split(","):
                if holder.strip():
                    yield UserRight(right=name.strip(), holder=holder.strip().removeprefix("*"), place=origin.at(number))
