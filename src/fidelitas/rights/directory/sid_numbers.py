"""The user and group IDs that sssd makes of SIDs: sssd-ldap(5) and sssd-ad(5), "ID MAPPING".

All numbers are cut into slices of one size; which slice a domain has follows from a hash of its SID, so that every host with the same
settings makes the same numbers.
"""

from functools import lru_cache

from fidelitas.facts import SidNumbers

__all__ = ["number_of"]

_SEED = 0xDEADBEEF
_MASK = 0xFFFFFFFF
_LONGEST_RID = 10  # it has 32 bits


def number_of(sid: str, made: SidNumbers) -> int | None:
    """Return the number that a host makes of a SID; ``None`` where that is not known: beyond the first slice of its domain."""
    domain, _, rid = sid.rpartition("-")
    # A file states what it likes: a number of any length is not one of Windows.
    if made.slices <= 0 or len(rid) > _LONGEST_RID or not rid.isdecimal() or int(rid) >= made.size:
        return None
    return made.least + _hash(domain) % made.slices * made.size + int(rid)


@lru_cache(maxsize=64)
def _hash(domain: str) -> int:
    """Return the MurmurHash3 of the SID of a domain (x86, 32 bits), by the seed that sssd takes."""
    data = domain.encode("utf-8", "surrogateescape")
    state, whole = _SEED, len(data) // 4 * 4
    for at in range(0, whole, 4):
        state = _rotated(state ^ _mixed(int.from_bytes(data[at : at + 4], "little")), 13) * 5 + 0xE6546B64 & _MASK
    state ^= _mixed(int.from_bytes(data[whole:], "little")) ^ len(data)
    for shift, factor in ((16, 0x85EBCA6B), (13, 0xC2B2AE35), (16, 1)):
        state = (state ^ state >> shift) * factor & _MASK
    return state


def _mixed(word: int) -> int:
    return _rotated(word * 0xCC9E2D51 & _MASK, 15) * 0x1B873593 & _MASK


def _rotated(word: int, by: int) -> int:
    return (word << by | word >> 32 - by) & _MASK
