"""What nslcd takes of a directory: nslcd.conf(5).

Where it looks for accounts and for groups, with which scope and filter, from which user ID on, and whether groups within groups count.
"""

import re
from collections.abc import Iterator

from fidelitas.facts import DirectorySource, Place, SearchBase

__all__ = ["read_nslcd"]

_WORDS = re.compile(r"\s*(\w+)\s+(.*?)\s*\Z")
_SCOPES = {"sub": "subtree", "subtree": "subtree", "one": "onelevel", "onelevel": "onelevel", "base": "base"}
_MAPS = {"passwd", "group", "shadow", "netgroup", "aliases", "ethers", "hosts", "networks", "protocols", "rpc", "services", "sudoers"}
# What makes names, numbers or attributes others than they stand in the directory.
_UNREAD = frozenset({"map", "nss_uid_offset", "nss_gid_offset", "validnames", "ignorecase", "pam_authz_search"})
_YES = frozenset({"yes", "on", "true", "1"})


def read_nslcd(text: str, subject: str, path: str) -> Iterator[DirectorySource]:
    """Yield the directory that the file names, if it names one."""
    stated: dict[str, list[tuple[str, int]]] = {}
    for number, line in enumerate(text.split("\n"), 1):
        found = _WORDS.match(line)
        if found is not None:
            stated.setdefault(found[1].lower(), []).append((found[2], number))
    bases = [(*_of_map(value), number) for value, number in stated.get("base", ())]
    if bases:
        least = stated.get("nss_min_uid", [("0", 0)])[-1][0]
        yield DirectorySource(
            name=path,
            bases=tuple(dn for _, dn, _ in bases),
            people=_searches(stated, [(one, dn) for one, dn, _ in bases], "passwd"),
            groups=_searches(stated, [(one, dn) for one, dn, _ in bases], "group"),
            least_uid=int(least) if least.isdecimal() and len(least) < 12 else 0,
            plain_names=True,
            nests=stated.get("nss_nested_groups", [("no", 0)])[-1][0].lower() in _YES,
            primary_leads_on=False,
            unread=tuple(sorted(_UNREAD & set(stated))),
            place=Place(subject, path, bases[0][2], 1),
        )


def _of_map(value: str) -> tuple[str, str]:
    """Return the map that a setting is for, empty for all, and its value."""
    first, _, rest = value.partition(" ")
    return (first, rest.strip()) if first in _MAPS else ("", value)


def _searches(stated: dict[str, list[tuple[str, int]]], bases: list[tuple[str, str]], wanted: str) -> tuple[SearchBase, ...]:
    """Return where a map is looked for: by what is stated for it alone, else by what is stated for all."""
    own = [dn for one, dn in bases if one == wanted] or [dn for one, dn in bases if not one]
    scopes = dict(_of_map(value) for value, _ in stated.get("scope", ()))
    filters = dict(_of_map(value) for value, _ in stated.get("filter", ()))
    scope = _SCOPES.get(scopes.get(wanted, scopes.get("", "")).lower(), "subtree")
    return tuple(SearchBase(dn=dn, scope=scope, filter=filters.get(wanted, "")) for dn in own)
