"""Security descriptors in words (SDDL): owner and discretionary access control list ([MS-DTYP] 2.5.1).

Knows the syntax, the short names of SIDs and rights; not what a right to an object amounts to.
"""

import re
from collections.abc import Iterator

from fidelitas.facts import AccessControlEntry, SecurityDescriptor

__all__ = ["SHORT_SIDS", "read_descriptor"]

# Short names of SIDs; those of a domain stand for its own SID and a last number, which is kept as "domain-NUMBER".
SHORT_SIDS = {
    "WD": "S-1-1-0", "CO": "S-1-3-0", "CG": "S-1-3-1", "OW": "S-1-3-4", "NU": "S-1-5-2", "IU": "S-1-5-4", "SU": "S-1-5-6",
    "AN": "S-1-5-7", "ED": "S-1-5-9", "PS": "S-1-5-10", "AU": "S-1-5-11", "RC": "S-1-5-12", "SY": "S-1-5-18", "LS": "S-1-5-19",
    "NS": "S-1-5-20", "BA": "S-1-5-32-544", "BU": "S-1-5-32-545", "BG": "S-1-5-32-546", "PU": "S-1-5-32-547", "AO": "S-1-5-32-548",
    "SO": "S-1-5-32-549", "PO": "S-1-5-32-550", "BO": "S-1-5-32-551", "RE": "S-1-5-32-552", "RU": "S-1-5-32-554",
    "RD": "S-1-5-32-555", "NO": "S-1-5-32-556", "MU": "S-1-5-32-558", "LU": "S-1-5-32-559", "IS": "S-1-5-32-568",
    "ER": "S-1-5-32-573", "HA": "S-1-5-32-578", "RM": "S-1-5-32-580", "AC": "S-1-15-2-1",
    "LA": "domain-500", "LG": "domain-501", "DA": "domain-512", "DU": "domain-513", "DG": "domain-514", "DC": "domain-515",
    "DD": "domain-516", "SA": "domain-518", "EA": "domain-519", "PA": "domain-520", "CN": "domain-522", "AP": "domain-525",
}  # fmt: skip
# Short names of rights: generic, standard, of files, and those of services and directory objects, which use the same letters.
_RIGHTS = {
    "GA": 0x10000000, "GX": 0x20000000, "GW": 0x40000000, "GR": 0x80000000,
    "SD": 0x10000, "RC": 0x20000, "WD": 0x40000, "WO": 0x80000,
    "FA": 0x1F01FF, "FR": 0x120089, "FW": 0x120116, "FX": 0x1200A0,
    "KA": 0xF003F, "KR": 0x20019, "KW": 0x20006, "KX": 0x20019,
    "CC": 0x1, "DC": 0x2, "LC": 0x4, "SW": 0x8, "RP": 0x10, "WP": 0x20, "DT": 0x40, "LO": 0x80, "CR": 0x100,
}  # fmt: skip
_SID = r"[A-Z]{2}|S-[\d-]+"
_HEAD = re.compile(rf"(?:O:(?P<owner>{_SID}))?(?:G:(?:{_SID}))?(?P<list>D:(?P<flags>[A-Z_]*))?")
_ALLOWED, _DENIED = frozenset({"A", "OA", "XA"}), frozenset({"D", "OD", "XD"})
# As many entries as a list of 64 KiB can hold.
_LONGEST = 1 << 17


def read_descriptor(text: str) -> SecurityDescriptor | None:
    """Return what a descriptor says, or ``None`` for a text that is none."""
    found = _HEAD.match(text) if len(text) <= _LONGEST else None
    if found is None or not (found["owner"] or found["list"]):
        return None
    # Without a list, or where it says so, nothing is protected.
    open_to_all = not found["list"] or "NO_ACCESS_CONTROL" in found["flags"]
    entries = [] if open_to_all else [_entry(one) for one in _bracketed(text[found.end() :])]
    if None in entries:
        return None
    kept = None if open_to_all else tuple(entry for entry in entries if isinstance(entry, AccessControlEntry))
    protected = "P" in (found["flags"] or "").replace("NO_ACCESS_CONTROL", "")
    return SecurityDescriptor(owner=_sid(found["owner"] or ""), entries=kept, protected=protected)


def _bracketed(text: str) -> Iterator[str]:
    """Yield what stands in brackets, up to the next list; a condition has brackets of its own."""
    depth = begun = 0
    for at, letter in enumerate(text):
        if letter == "(":
            depth += 1
            begun = at + 1 if depth == 1 else begun
        elif letter == ")":
            depth -= 1
            if depth == 0:
                yield text[begun:at]
        if depth < 0 or (depth == 0 and letter != ")"):  # the list for auditing, or what is no list
            return


def _entry(text: str) -> AccessControlEntry | bool | None:
    """entry = type ";" flags ";" rights ";" object ";" inherited object ";" account [ ";" condition ]

    ``False`` for one of a type that says nothing of access, ``None`` for one that cannot be read.
    """
    fields = text.split(";")
    if len(fields) < 6:
        return None
    kind, flags, rights, sid = fields[0], fields[1], fields[2], _sid(fields[5])
    if kind not in _ALLOWED | _DENIED:
        return False
    mask = _mask(rights)
    if mask is None or not sid:
        return None
    flags_set = {flags[at : at + 2] for at in range(0, len(flags), 2)}
    return AccessControlEntry(
        allowed=kind in _ALLOWED,
        mask=mask,
        sid=sid,
        inherit_only="IO" in flags_set,
        object_type=fields[3].lower(),
        inherited="ID" in flags_set,
        conditional=kind in ("XA", "XD"),
    )


def _mask(text: str) -> int | None:
    if re.fullmatch(r"0x[0-9a-fA-F]{1,8}", text):
        return int(text, 16)
    if text.isdecimal() and len(text) <= 10:
        return int(text)
    words = [text[at : at + 2] for at in range(0, len(text), 2)]
    if any(word not in _RIGHTS for word in words):
        return None
    mask = 0
    for word in words:
        mask |= _RIGHTS[word]
    return mask


def _sid(text: str) -> str:
    return text if text.startswith("S-1-") else SHORT_SIDS.get(text, "")
