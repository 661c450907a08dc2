"""Texts that tools of Windows print: an export of ``secedit``, and ``net localgroup``, whose words depend on the language of Windows.

Of the latter only what does not depend on it is relied on: a line of hyphens before the members, an empty line or the end after them.
"""

import re
from collections.abc import Iterator

from fidelitas.facts import LocalGroup, LocalMember, Place, UserRight

__all__ = ["ADMINISTRATORS", "decoded", "is_group_listing", "is_group_text", "read_group_text", "read_user_rights"]

# The line of hyphens above the members; in UTF-16 with a zero to each.
_LONG_RULE = re.compile(rb"\n-{40,}\r?\n")
_LARGEST = 1 << 20
_RULE = re.compile(r"-{20,}\s*\Z")
_HEAD = re.compile(r"\S.*?\s{2,}(?P<name>\S.*?)\s*\Z")
# What the built-in group of administrators is called where a text tells no SID.
ADMINISTRATORS = {
    "administrators": "English or Dutch", "administratoren": "German", "administrateurs": "French", "amministratori": "Italian",
    "administradores": "Spanish or Portuguese", "administratorzy": "Polish", "administratörer": "Swedish",
    "administratorer": "Danish or Norwegian", "järjestelmänvalvojat": "Finnish", "rendszergazdák": "Hungarian", "správci": "Czech",
    "yöneticiler": "Turkish", "администраторы": "Russian",
}  # fmt: skip


def decoded(content: bytes) -> str:
    """Return a text of Windows: UTF-16 or UTF-8 by its mark, else UTF-8, else the code page of a western console."""
    for mark, name in ((b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be"), (b"\xef\xbb\xbf", "utf-8")):
        if content.startswith(mark):
            return content[len(mark) :].decode(name, "replace")
    try:
        return content.decode("utf-8")
    except UnicodeDecodeError:
        return content.decode("cp850")


def _lines(text: str) -> list[str]:
    return text.replace("\r\n", "\n").replace("\r", "\n").split("\n")


def is_group_listing(content: bytes) -> bool:
    """Return whether a file is what ``net localgroup NAME`` printed, in whatever encoding."""
    return len(content) <= _LARGEST and _LONG_RULE.search(content.replace(b"\0", b"")) is not None


def is_group_text(text: str) -> bool:
    """Return whether a text is what ``net localgroup NAME`` prints: words and a name, then a line of hyphens, then lines."""
    lines = _lines(text)
    named = next((line for line in lines if line.strip()), "")
    return _HEAD.match(named) is not None and sum(_RULE.match(line) is not None for line in lines) == 1


def read_group_text(text: str, origin: Place) -> LocalGroup:
    """Return the group that ``net localgroup NAME`` shows.  Neither it nor its members have SIDs here.

    The last line says in some language that the command has succeeded; it is known by the empty line after it or the end, and never has a
    backslash.
    """
    lines = _lines(text)
    named = next((number for number, line in enumerate(lines) if line.strip()), 0)
    head = _HEAD.match(lines[named])
    below = next((number for number, line in enumerate(lines) if _RULE.match(line)), len(lines)) + 1
    members = [(number, line.strip()) for number, line in enumerate(lines[below:], below + 1) if line.strip()]
    if members and "\\" not in members[-1][1]:
        members.pop()
    return LocalGroup(
        name=head["name"] if head else lines[named].strip(),
        sid=None,
        members=tuple(LocalMember(sid=None, name=name, group=None, place=origin.at(number)) for number, name in members),
        place=origin.at(named + 1),
    )


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
