"""Who may do what to a secured object of a machine, by its access control list: what bits stand for on files, keys and services.

A denial to someone else than the holder is shown as a condition: whether the holder is that one, too, depends on the log-on.
"""

from collections.abc import Iterator
from typing import NamedTuple

from fidelitas.facts import AccessControlEntry, SecurityDescriptor
from fidelitas.rights.access_lists import allowances, owner_of

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
_WRITES = 0x2 | 0x4  # what it stands for, among other things, on files, keys and services


class Allowed(NamedTuple):
    """A holder, by SID, with what else must be so."""

    sid: str
    condition: str | None = None


def allowed_to(access: SecurityDescriptor | None, wanted: int) -> Iterator[Allowed]:
    """Yield who may do any of what the bits stand for, but those who are trusted anyway; each holder once."""
    if access is None:
        return

    def bits_of(entry: AccessControlEntry) -> int:
        written = _WRITES if entry.mask & _GENERIC_WRITE else 0
        return wanted if entry.mask & _GENERIC_ALL else wanted & (entry.mask | written)

    found: dict[str, tuple[str, ...]] = {}  # by whom, with those who are denied it
    for sid, _, denied in allowances(access, bits_of, EVERYONE):
        found[sid] = min(found.get(sid, denied), denied, key=len)
    owner = owner_of(access) if wanted & _WRITE_DAC and access.entries is not None else None
    if owner:
        found.setdefault(owner, ())
    for sid, denied in found.items():
        if sid not in TRUSTED:
            yield Allowed(sid, f"unless the account is also in {denied[0]}, which is denied this" if denied else "")
