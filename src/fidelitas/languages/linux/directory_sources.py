"""Which directory a host asks: sssd.conf(5), nslcd.conf(5), ldap.conf(5), smb.conf(5), as far as they name one.

Of a domain that sssd knows, whether it is enabled; of all, the base of the tree or the realm.  Passwords in these files are never read.
"""

import re
from collections.abc import Iterator, Mapping

from fidelitas.facts import DirectorySource, Place

__all__ = ["PATHS", "read_directory_sources"]

PATHS = (
    "/etc/sssd/sssd.conf",
    "/etc/nslcd.conf",
    "/etc/ldap.conf",
    "/etc/ldap/ldap.conf",
    "/etc/openldap/ldap.conf",
    "/etc/samba/smb.conf",
)
_SECTION = re.compile(r"\s*\[([^\]]+)\]")
_SETTING = re.compile(r"\s*([A-Za-z_ ]+?)\s*=\s*(.*?)\s*\Z")
_WORDS = re.compile(r"\s*(base|sudoers_base)\s+(?:(?:passwd|group|shadow|sudoers|netgroup)\s+)?(\S.*?)\s*\Z", re.IGNORECASE)
_BASES = frozenset({"ldap_search_base", "ldap_user_search_base", "ldap_group_search_base"})
_REALMS = frozenset({"ad_domain", "ipa_domain", "krb5_realm"})


def read_directory_sources(texts: Mapping[str, str], subject: str) -> tuple[DirectorySource, ...]:
    """Return what the files of a host, by path, say of the directories that it asks, sssd's domains in the order in which it asks them."""
    found: list[DirectorySource] = []
    for path, text in texts.items():
        if "/sssd/" in path:
            continue
        found += _of_samba(text, subject, path) if path.endswith("smb.conf") else _of_words(text, subject, path)
    sssd = {path: text for path, text in texts.items() if "/sssd/" in path}
    return (*_of_sssd(sssd, subject), *found)


def _of_sssd(texts: Mapping[str, str], subject: str) -> Iterator[DirectorySource]:
    """Yield the domains of sssd; a later file adds to an earlier one, as sssd reads its folder."""
    sections: dict[str, dict[str, str]] = {}
    places: dict[str, Place] = {}
    for path in sorted(texts, key=lambda path: (path != PATHS[0], path)):
        section = ""
        for number, line in enumerate(texts[path].split("\n"), 1):
            if (header := _SECTION.match(line)) is not None:
                section = header[1].strip()
                places.setdefault(section, Place(subject, path, number, 1))
            elif (setting := _SETTING.match(line)) is not None and not line.lstrip().startswith(("#", ";")):
                sections.setdefault(section, {})[setting[1].lower()] = setting[2]
    enabled = [name.strip() for name in sections.get("sssd", {}).get("domains", "").split(",") if name.strip()]
    known = [name.removeprefix("domain/") for name in places if name.startswith("domain/")]
    switched = [name for name in known if sections.get(f"domain/{name}", {}).get("enabled", "").lower() == "true"]
    for name in [*enabled, *(one for one in switched if one not in enabled)] or known:
        stated = sections.get(f"domain/{name}", {})
        if stated.get("id_provider") in ("files", "proxy") or f"domain/{name}" not in places:
            continue
        realms = [stated[key] for key in sorted(_REALMS) if key in stated]
        if stated.get("id_provider") in ("ad", "ipa") and not realms:
            realms = [name]  # the domain is called as the realm is, unless it says otherwise (sssd-ad(5), ad_domain)
        bases = [stated[key].partition("?")[0] for key in sorted(_BASES) if key in stated]
        yield DirectorySource(
            name=name, realms=tuple(realm.lower() for realm in realms), bases=tuple(bases), place=places[f"domain/{name}"]
        )


def _of_words(text: str, subject: str, path: str) -> Iterator[DirectorySource]:
    """Yield what a file of keywords and values names: nslcd.conf, ldap.conf."""
    for number, line in enumerate(text.split("\n"), 1):
        found = _WORDS.match(line)
        if found is not None and found[1].lower() == "base":
            yield DirectorySource(name=path, bases=(found[2],), place=Place(subject, path, number, 1))


def _of_samba(text: str, subject: str, path: str) -> Iterator[DirectorySource]:
    """Yield the realm of a machine that is a member of a domain by winbind."""
    for number, line in enumerate(text.split("\n"), 1):
        found = _SETTING.match(line)
        if found is not None and found[1].lower() == "realm" and found[2]:
            yield DirectorySource(name=found[2], realms=(found[2].lower(),), place=Place(subject, path, number, 1))
