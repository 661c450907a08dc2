"""Who may do what to an object of a directory, by its list of permissions: what bits and parts of an entry stand for there."""

from collections.abc import Iterator

from msgspec import Struct

from fidelitas.facts import AccessControlEntry, SecurityDescriptor
from fidelitas.rights.access_lists import allowances, owner_of

__all__ = ["Access", "Allowance", "allowed_to", "keepers"]

# What generic rights stand for on objects of a directory ([MS-ADTS] 5.1.3.2.1).
_GENERIC = ((0x10000000, 0xF01FF), (0x20000000, 0x20004), (0x40000000, 0x20028), (0x80000000, 0x20094))
_EVERYONE = frozenset({"S-1-1-0", "S-1-5-11", "S-1-5-15"})


class Access(Struct, frozen=True):
    """Something that a permission can allow: bits, any of which is enough, on the whole object or one of some parts of it (GUIDs)."""

    bits: int
    parts: frozenset[str] = frozenset()

    def bits_in(self, entry: AccessControlEntry) -> int:
        """Return which of the bits an entry is about."""
        return _mask(entry) & self.bits if not entry.object_type or entry.object_type in self.parts else 0


class Allowance(Struct, frozen=True):
    """Who (a SID) is allowed something, unless he is also one of those who are `denied` it before; `conditional` by what is not read."""

    sid: str
    entry: str = ""  # that says so, in words (SDDL)
    denied: tuple[str, ...] = ()
    conditional: bool = False


def allowed_to(descriptor: SecurityDescriptor, access: Access) -> Iterator[Allowance]:
    """Yield who may do something to the object that a descriptor is of, each with those denied it before; owners aside."""
    for sid, entry, denied in allowances(descriptor, access.bits_in, _EVERYONE):
        yield Allowance(sid) if entry is None else Allowance(sid, _in_words(entry), denied, entry.conditional)


def keepers(descriptor: SecurityDescriptor) -> Iterator[Allowance]:
    """Yield who may change the permissions of an object because he owns it, unless an entry says what owners may."""
    owner = owner_of(descriptor)
    if owner:
        yield Allowance(owner, f"O:{owner}")


def _in_words(entry: AccessControlEntry) -> str:
    """Return an entry as SDDL has it; rights by their number."""
    kind = ("OA" if entry.object_type else "A") if not entry.conditional else "XA"
    return f"({kind};{'ID' * entry.inherited};{entry.mask:#x};{entry.object_type};;{entry.sid})"


def _mask(entry: AccessControlEntry) -> int:
    mask = entry.mask
    for generic, stands_for in _GENERIC:
        if mask & generic:
            mask |= stands_for
    return mask
