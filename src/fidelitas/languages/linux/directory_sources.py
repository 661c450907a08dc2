"""Which directory a host asks, and what of it: sssd.conf(5) (`sssd.py`), nslcd.conf(5) (`nslcd.py`), ldap.conf(5), sudo's, smb.conf(5).

Of all, the base of the tree or the realm.  Passwords in these files are never read.
"""

import re
from collections.abc import Iterator, Mapping

from msgspec.structs import replace

from fidelitas.facts import DirectorySource, Place, SearchBase, SidNumbers
from fidelitas.languages.linux.nslcd import read_nslcd
from fidelitas.languages.linux.sssd import MAIN, read_sssd, setting_of

__all__ = ["PATHS", "read_directory_sources"]

PATHS = (
    MAIN,
    "/etc/nslcd.conf",
    "/etc/sudo-ldap.conf",
    "/etc/ldap.conf",
    "/etc/ldap/ldap.conf",
    "/etc/openldap/ldap.conf",
    "/etc/samba/smb.conf",
)
_WORDS = re.compile(r"\s*(base|sudoers_base|sudoers_search_filter)\s+(?:(?:passwd|group|shadow|sudoers|netgroup)\s+)?(\S.*)", re.IGNORECASE)

_IDMAP = re.compile(r"idmap config\s(.*):\s*(backend|range|base_rid)\Z")
_RANGE = re.compile(r"(\d{1,10})\s*-\s*(\d{1,10})\Z")
# Where sudo looks for its settings of directories: Debian and Red Hat, and as it comes.
_OF_SUDO = ("/etc/sudo-ldap.conf", "/etc/ldap.conf")
_YES = ("yes", "true", "1")
_BOTH = frozenset({"rid", "autorid"})
_DOMAIN_USERS = 513


def read_directory_sources(
    texts: Mapping[str, str], subject: str, *, winbind: bool = False, sudo: bool = False
) -> tuple[DirectorySource, ...]:
    """Return what the files of a host, by path, say of the directories that it asks, sssd's domains in the order in which it asks them.

    Where winbind looks accounts up, names are as smb.conf(5) says; where `sudo` asks directories itself, rules are looked for as it does.
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
    return _as_sudo_asks((*read_sssd(sssd, subject), *found), texts, subject) if sudo else (*read_sssd(sssd, subject), *found)


def _of_words(text: str, subject: str, path: str) -> Iterator[DirectorySource]:
    """Yield what a file of keywords and values names: ldap.conf, and sudo's where it names no other base than that of rules."""
    stated = list(_stated(text))
    wanted = "base" if any(word == "base" for word, _, _ in stated) else "sudoers_base"
    for word, value, number in stated:
        if word == wanted:
            yield DirectorySource(name=path, bases=(value,), place=Place(subject, path, number, 1))


def _stated(text: str) -> Iterator[tuple[str, str, int]]:
    """Yield the keywords of a file that matter here, each with its value and the number of its line."""
    for number, line in enumerate(text.split("\n"), 1):
        if (found := _WORDS.match(line)) is not None:
            yield found[1].lower(), found[2].rstrip(), number


def _as_sudo_asks(sources: tuple[DirectorySource, ...], texts: Mapping[str, str], subject: str) -> tuple[DirectorySource, ...]:
    """Return sources with rules as sudo itself looks for them: below its bases, and none where no base is stated (sudoers.ldap(5))."""
    path = next((path for path in _OF_SUDO if path in texts), None)
    if path is None:
        return sources
    stated = list(_stated(texts[path]))
    bases = tuple(SearchBase(dn=value) for word, value, _ in stated if word == "sudoers_base")
    unread = tuple(word for word, _, _ in stated if word == "sudoers_search_filter")
    asked = sources or (DirectorySource(name=path, place=Place(subject, path, 1, 1)),)
    return tuple(replace(one, rules=bases, takes_rules=bool(bases), rule_search=None, unread=(*one.unread, *unread)) for one in asked)


def _of_samba(text: str, subject: str, path: str, *, winbind: bool) -> Iterator[DirectorySource]:
    """Yield the realm of a machine that is a member of a domain by winbind, and how that writes names (smb.conf(5))."""
    stated = {pair[0]: (pair[1], number) for number, line in enumerate(text.split("\n"), 1) if (pair := setting_of(line)) is not None}
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
            domains.setdefault(found[1].strip(), {})[found[2]] = value
    own = domains.get(stated.get("workgroup", "").lower(), {})
    bounds = _RANGE.match(own.get("range", ""))
    if own.get("backend", "").lower() != "rid" or bounds is None or own.get("base_rid", "0") != "0":
        return None
    least, beyond = int(bounds[1]), int(bounds[2]) + 1
    return SidNumbers(least=least, most=beyond, size=max(beyond - least, 1))
