"""Who may do what to an object of a directory: its list of permissions decided entry by entry, in their order ([MS-ADTS] 5.1.3.3).

An entry that allows counts as far as none before it denies the same.  Whom a denial is about is for the caller to say: it is known by the
groups.
"""

from collections.abc import Iterator
from dataclasses import dataclass

from fidelitas.facts import AccessControlEntry, SecurityDescriptor

__all__ = ["Access", "Allowance", "allowed_to", "keepers"]

# What generic rights stand for on objects of a directory ([MS-ADTS] 5.1.3.2.1).
_GENERIC = ((0x10000000, 0xF01FF), (0x20000000, 0x20004), (0x40000000, 0x20028), (0x80000000, 0x20094))
_OWNER_RIGHTS = "S-1-3-4"
_EVERYONE = frozenset({"S-1-1-0", "S-1-5-11", "S-1-5-15"})


@dataclass(frozen=True, slots=True)
class Access:
    """Something that a permission can allow: bits, any of which is enough, on the whole object or one of some parts of it (GUIDs)."""

    bits: int
    parts: frozenset[str] = frozenset()

    def is_in(self, entry: AccessControlEntry) -> bool:
        """Return whether an entry is about this."""
        return bool(_mask(entry) & self.bits) and (not entry.object_type or entry.object_type in self.parts)


@dataclass(frozen=True, slots=True)
class Allowance:
    """Who (a SID) is allowed something, unless he is also one of those who are `denied` it before; `conditional` by what is not read."""

    sid: str
    entry: str = ""  # that says so, in words (SDDL)
    denied: tuple[str, ...] = ()
    conditional: bool = False


def allowed_to(descriptor: SecurityDescriptor, access: Access) -> Iterator[Allowance]:
    """Yield who may do something to the object that a descriptor is of, each SID once; owners aside."""
    if descriptor.entries is None:
        yield Allowance("S-1-1-0")
        return
    seen: set[str] = set()
    denied: list[str] = []
    for entry in descriptor.entries:
        if entry.inherit_only or not access.is_in(entry):
            continue
        if not entry.allowed:
            denied += [] if entry.conditional else [entry.sid]
        elif entry.sid not in seen and entry.sid not in denied and _EVERYONE.isdisjoint(denied):
            seen.add(entry.sid)
            yield Allowance(entry.sid, _in_words(entry), tuple(denied), entry.conditional)


def keepers(descriptor: SecurityDescriptor) -> Iterator[Allowance]:
    """Yield who may change the permissions of an object because he owns it, unless an entry says what owners may."""
    stated = any(entry.sid == _OWNER_RIGHTS and not entry.inherit_only for entry in descriptor.entries or ())
    if descriptor.owner and not stated:
        yield Allowance(descriptor.owner, f"O:{descriptor.owner}")


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
