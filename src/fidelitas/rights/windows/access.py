"""Who may do what to a secured object: access control lists decided entry by entry, in their order ([MS-DTYP] 2.5.3.2).

An entry that allows counts unless one before it denies the same to everyone or to the same holder.  A denial to someone else is shown as
a condition: whether the holder is that one, too, depends on the log-on.
"""

from collections.abc import Iterator
from typing import NamedTuple

from fidelitas.facts import SecurityDescriptor

__all__ = [
    "ADD_FILE", "ADD_FOLDER", "CHANGE_KEY", "CHANGE_SERVICE", "DELETE", "EVERYONE", "REPLACE_CHILD", "TAKE_OVER", "TRUSTED", "WRITE_FILE",
    "Allowed", "allowed_to",
]  # fmt: skip

# Groups that every account of the machine is in that logs on at all: everyone, authenticated users, this organization, interactive,
# the local users.
EVERYONE = frozenset({"S-1-1-0", "S-1-5-11", "S-1-5-15", "S-1-5-4", "S-1-5-32-545"})
# What Windows itself runs as, and its administrators: what these may do is no news.
TRUSTED = frozenset({
    "S-1-5-18", "S-1-5-19", "S-1-5-20", "S-1-5-6", "S-1-3-0", "S-1-3-1", "S-1-5-32-544", "S-1-5-9",
    "S-1-5-80-956008885-3418522649-1831038044-1853292631-2271478464",
})  # fmt: skip
_GENERIC_ALL, _GENERIC_WRITE, _WRITE_DAC, _WRITE_OWNER = 0x10000000, 0x40000000, 0x40000, 0x80000
TAKE_OVER = _GENERIC_ALL | _WRITE_DAC | _WRITE_OWNER
# Any one of the bits of a wish is enough.
WRITE_FILE = TAKE_OVER | _GENERIC_WRITE | 0x2
ADD_FILE = TAKE_OVER | _GENERIC_WRITE | 0x2
ADD_FOLDER = _GENERIC_ALL | _GENERIC_WRITE | 0x4
DELETE = TAKE_OVER | 0x10000
CHANGE_KEY = TAKE_OVER | _GENERIC_WRITE | 0x2 | 0x4  # of the registry: set values, make keys in it
REPLACE_CHILD = TAKE_OVER | 0x40  # delete what is in the folder; to put something else there takes ADD_FILE as well
CHANGE_SERVICE = TAKE_OVER | _GENERIC_WRITE | 0x2
_OWNER_RIGHTS = "S-1-3-4"


class Allowed(NamedTuple):
    """A holder, by SID, with what else must be so."""

    sid: str
    condition: str | None = None


def allowed_to(access: SecurityDescriptor | None, wanted: int) -> Iterator[Allowed]:
    """Yield who may do any of what the bits stand for, but those who are trusted anyway; each holder once."""
    if access is None:
        return
    if access.entries is None:
        yield Allowed("S-1-1-0")
        return
    seen = set(TRUSTED)
    for number, entry in enumerate(access.entries):
        if entry.sid in seen or not entry.allowed or entry.inherit_only or not entry.mask & wanted:
            continue
        before = [one for one in access.entries[:number] if not one.allowed and not one.inherit_only]
        own = [one for one in before if one.sid == entry.sid or one.sid in EVERYONE]
        left = entry.mask & wanted & ~_union(one.mask for one in own)
        if left:
            seen.add(entry.sid)
            others = [one.sid for one in before if one not in own and not left & ~one.mask]
            yield Allowed(entry.sid, f"unless the account is also in {others[0]}, which is denied this" if others else "")
    limited = any(one.sid == _OWNER_RIGHTS for one in access.entries)
    if access.owner and access.owner not in seen and not limited and wanted & _WRITE_DAC:
        yield Allowed(access.owner)


def _union(masks: Iterator[int]) -> int:
    found = 0
    for mask in masks:
        found |= mask | (0xFFFFFFFF if mask & _GENERIC_ALL else 0)
    return found
