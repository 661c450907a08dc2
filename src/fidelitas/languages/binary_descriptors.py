"""Security descriptors as bytes, self-relative ([MS-DTYP] 2.4.6), as a directory keeps them in nTSecurityDescriptor.

Knows the syntax; not what a right to an object amounts to.
"""

import struct
from collections.abc import Iterator
from functools import lru_cache
from uuid import UUID

from fidelitas.facts import AccessControlEntry, SecurityDescriptor

__all__ = ["read_binary_descriptor", "sid_text"]

_LIST_PRESENT, _PROTECTED = 0x0004, 0x1000
# Types of entries: allowed or denied, plain, for a part of the object, and with a condition ([MS-DTYP] 2.4.4.1).
_ALLOWED, _DENIED = frozenset({0x00, 0x05, 0x09, 0x0B}), frozenset({0x01, 0x06, 0x0A, 0x0C})
_OF_A_PART, _CONDITIONAL = frozenset({0x05, 0x06, 0x0B, 0x0C}), frozenset({0x09, 0x0A, 0x0B, 0x0C})
_INHERIT_ONLY, _INHERITED = 0x08, 0x10


@lru_cache(maxsize=4096)
def read_binary_descriptor(raw: bytes) -> SecurityDescriptor | None:
    """Return what a descriptor says, or ``None`` for bytes that are none; of many objects that have the same it is read once."""
    try:
        return _descriptor(raw)
    except (struct.error, IndexError, ValueError):
        return None


def sid_text(raw: bytes) -> str:
    """Return the SID that bytes begin with, as S-1-…; raises `ValueError` where they are too short."""
    count = raw[1]
    if raw[0] != 1 or count > 15 or len(raw) < 8 + 4 * count:
        raise ValueError("not a SID")
    return "-".join(map(str, ("S", 1, int.from_bytes(raw[2:8], "big"), *struct.unpack_from(f"<{count}I", raw, 8))))


def _descriptor(raw: bytes) -> SecurityDescriptor | None:
    revision, _, control, owner, _, _, listed = struct.unpack_from("<BBHIIII", raw)
    if revision != 1:
        return None
    entries = None
    if control & _LIST_PRESENT and listed:
        entries = tuple(_entries(raw, listed))
    return SecurityDescriptor(owner=sid_text(raw[owner:]) if owner else "", entries=entries, protected=bool(control & _PROTECTED))


def _entries(raw: bytes, at: int) -> Iterator[AccessControlEntry]:
    """Yield the entries of the list that begins at a place; those of a type that says nothing of access are skipped."""
    _, _, size, count, _ = struct.unpack_from("<BBHHH", raw, at)
    end, place = at + size, at + 8
    if end > len(raw):
        raise ValueError("the list goes beyond the end")
    for _ in range(count):
        kind, flags, length = struct.unpack_from("<BBH", raw, place)
        if length < 8 or place + length > end:
            raise ValueError("an entry goes beyond the list")
        if kind in _ALLOWED | _DENIED:
            yield _entry(raw[place : place + length], kind, flags)
        place += length


def _entry(raw: bytes, kind: int, flags: int) -> AccessControlEntry:
    (mask,) = struct.unpack_from("<I", raw, 4)
    at, object_type = 8, ""
    if kind in _OF_A_PART:
        (present,) = struct.unpack_from("<I", raw, 8)
        at = 12
        if present & 1:
            object_type = str(UUID(bytes_le=raw[at : at + 16]))
            at += 16
        at += 16 if present & 2 else 0
    return AccessControlEntry(
        allowed=kind in _ALLOWED,
        mask=mask,
        sid=sid_text(raw[at:]),
        inherit_only=bool(flags & _INHERIT_ONLY),
        object_type=object_type,
        inherited=bool(flags & _INHERITED),
        conditional=kind in _CONDITIONAL,
    )
