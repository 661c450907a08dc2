"""Which directory a host asks, and what of it: sssd.conf(5) (`sssd.py`), nslcd.conf(5) (`nslcd.py`), ldap.conf(5), smb.conf(5).

Of all, the base of the tree or the realm.  Passwords in these files are never read.
"""

import re
from collections.abc import Iterator, Mapping

from fidelitas.facts import DirectorySource, Place, SidNumbers
from fidelitas.languages.linux.nslcd import read_nslcd
from fidelitas.languages.linux.sssd import MAIN, SETTING, read_sssd

__all__ = ["PATHS", "read_directory_sources"]

PATHS = (
    MAIN,
    "/etc/nslcd.conf",
    "/etc/ldap.conf",
    "/etc/ldap/ldap.conf",
    "/etc/openldap/ldap.conf",
    "/etc/samba/smb.conf",
)
_WORDS = re.compile(r"\s*(base|sudoers_base)\s+(?:(?:passwd|group|shadow|sudoers|netgroup)\s+)?(\S.*?)\s*\Z", re.IGNORECASE)

_IDMAP = re.compile(r"idmap config\s+(.*?)\s*:\s*(backend|range|base_rid)\Z")
_RANGE = re.compile(r"(\d{1,10})\s*-\s*(\d{1,10})\Z")
_YES = ("yes", "true", "1")
_BOTH = frozenset({"rid", "autorid"})
_DOMAIN_USERS = 513


def read_directory_sources(texts: Mapping[str, str], subject: str, *, winbind: bool = False) -> tuple[DirectorySource, ...]:
    """Return what the files of a host, by path, say of the directories that it asks, sssd's domains in the order in which it asks them.

    Where winbind looks accounts up, names are as smb.conf(5) says.
    """
    found: list[DirectorySource] = []
    for path, text in texts.items():
        if "/sssd/" in path:
            continue
        if path.endswith("nslcd.conf"):
            found += read_nslcd(text, subject, path)
        else:
            found += _of_samba(text, subject, path, winbind=winbind) if path.endswith("smb.conf") else _of_words(text, subject, path)
    sssd = {path: text for path, text in texts.items() if "/sssd/" in path}
    return (*read_sssd(sssd, subject), *found)


def _of_words(text: str, subject: str, path: str) -> Iterator[DirectorySource]:
    """Yield what a file of keywords and values names: ldap.conf."""
    for number, line in enumerate(text.split("\n"), 1):
        found = _WORDS.match(line)
        if found is not None and found[1].lower() == "base":
            yield DirectorySource(name=path, bases=(found[2],), place=Place(subject, path, number, 1))


def _of_samba(text: str, subject: str, path: str, *, winbind: bool) -> Iterator[DirectorySource]:
    """Yield the realm of a machine that is a member of a domain by winbind, and how that writes names (smb.conf(5))."""
    stated = {found[1].lower(): (found[2], number) for number, line in enumerate(text.split("\n"), 1) if (found := SETTING.match(line))}
    realm, number = stated.get("realm", ("", 0))
    if not realm:
        return
    plain = stated.get("winbind use default domain", ("no", 0))[0].lower() in _YES
    separator = stated.get("winbind separator", ("\\", 0))[0]
    backends = [value.lower() for key, (value, _) in stated.items() if (found := _IDMAP.match(key)) and found[2] == "backend"]
    yield DirectorySource(
        name=realm,
        realms=(realm.lower(),),
        form="{name}" if plain or not winbind else f"{{short}}{separator}{{name}}",
        numbers_made=winbind and bool(backends) and "ad" not in backends,
        sid_numbers=_rid_numbers({key: value for key, (value, _) in stated.items()}) if winbind else None,
        # Its numbers stand for users and groups alike; until an account logs on its primary group is that of all (winbindd(8)).
        own_groups=winbind and not _BOTH.isdisjoint(backends),
        primary_rid=_DOMAIN_USERS if winbind else None,
        lower_case=winbind,
        space="_" if winbind and stated.get("winbind normalize names", ("no", 0))[0].lower() in _YES else "",
        place=Place(subject, path, number, 1),
    )


def _rid_numbers(stated: Mapping[str, str]) -> SidNumbers | None:
    """Return how winbind makes numbers of the SIDs of its own domain, where that follows from them alone: idmap_rid(8)."""
    domains: dict[str, dict[str, str]] = {}
    for key, value in stated.items():
        if (found := _IDMAP.match(key)) is not None:
            domains.setdefault(found[1], {})[found[2]] = value
    own = domains.get(stated.get("workgroup", "").lower(), {})
    bounds = _RANGE.match(own.get("range", ""))
    if own.get("backend", "").lower() != "rid" or bounds is None or own.get("base_rid", "0") != "0":
        return None
    least, beyond = int(bounds[1]), int(bounds[2]) + 1
    return SidNumbers(least=least, most=beyond, size=max(beyond - least, 1))
