"""Lists of permissions of files, services, keys and directories: decided entry by entry ([MS-DTYP] 2.5.3.2, [MS-ADTS] 5.1.3.3).

What the bits of an entry stand for is for the caller to say, and so is whom a denial to a group is about.
"""

from collections.abc import Callable, Iterator
from typing import NamedTuple

from fidelitas.facts import AccessControlEntry, SecurityDescriptor

__all__ = ["Allowance", "allowances", "owner_of"]

_EVERYONE, _OWNER_RIGHTS = "S-1-1-0", "S-1-3-4"


class Allowance(NamedTuple):
    """Who (a SID) is allowed something, by which entry, unless he is also one of those who are `denied` all of it before.

    There is no entry where there is no list, which allows everyone everything.
    """

    sid: str
    entry: AccessControlEntry | None = None
    denied: tuple[str, ...] = ()


def allowances(
    descriptor: SecurityDescriptor, bits_of: Callable[[AccessControlEntry], int], everyone: frozenset[str]
) -> Iterator[Allowance]:
    """Yield who is allowed any of what is asked for; the owner aside.  A SID comes again where others are denied what an entry adds.

    `bits_of` returns which of the bits that are asked for an entry is about.  An entry that allows counts for those that none before it
    denies to the same SID or to `everyone`.
    """
    if descriptor.entries is None:
        yield Allowance(_EVERYONE)
        return
    met: set[str] = set()
    denials: list[tuple[str, int]] = []
    for entry in descriptor.entries:
        bits = 0 if entry.inherit_only else bits_of(entry)
        if not bits:
            continue
        if not entry.allowed:
            denials += [] if entry.conditional else [(entry.sid, bits)]
        elif entry.sid not in met:
            own = {entry.sid, *everyone}
            for sid, denied in denials:
                bits &= ~denied if sid in own else bits
            others = dict.fromkeys(sid for sid, denied in denials if sid not in own and not bits & ~denied)
            if bits:
                yield Allowance(entry.sid, entry, tuple(others))
            if bits and not others:
                met.add(entry.sid)


def owner_of(descriptor: SecurityDescriptor) -> str | None:
    """Return who may change the list because he owns the object, unless an entry says what owners may."""
    stated = any(entry.sid == _OWNER_RIGHTS and not entry.inherit_only for entry in descriptor.entries or ())
    return None if stated else descriptor.owner
