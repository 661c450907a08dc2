"""Which directory a host asks, and which of its accounts it accepts: sssd.conf(5), nslcd.conf(5), ldap.conf(5), smb.conf(5).

Of a domain that sssd knows, whether it is enabled, how its names are written and who may log in; of all, the base of the tree or the realm.
Passwords in these files are never read.
"""

import re
from collections.abc import Iterator, Mapping

from fidelitas.facts import AccessRules, DirectorySource, Place

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
_SETTING = re.compile(r"\s*([A-Za-z][A-Za-z_0-9*:. -]*?)\s*=\s*(.*?)\s*\Z")
_WORDS = re.compile(r"\s*(base|sudoers_base)\s+(?:(?:passwd|group|shadow|sudoers|netgroup)\s+)?(\S.*?)\s*\Z", re.IGNORECASE)
_BASES = frozenset({"ldap_search_base", "ldap_user_search_base", "ldap_group_search_base"})
_REALMS = frozenset({"ad_domain", "ipa_domain", "krb5_realm"})


def read_directory_sources(texts: Mapping[str, str], subject: str, *, winbind: bool = False) -> tuple[DirectorySource, ...]:
    """Return what the files of a host, by path, say of the directories that it asks, sssd's domains in the order in which it asks them.

    Where winbind looks accounts up, names are as smb.conf(5) says.
    """
    found: list[DirectorySource] = []
    for path, text in texts.items():
        if "/sssd/" in path:
            continue
        found += _of_samba(text, subject, path, winbind=winbind) if path.endswith("smb.conf") else _of_words(text, subject, path)
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
            name=name,
            realms=tuple(realm.lower() for realm in realms),
            bases=tuple(bases),
            form=_form({**sections.get("sssd", {}), **stated}),
            numbers_made=stated.get("ldap_id_mapping", str(stated.get("id_provider") == "ad")).lower() == "true",
            access=_access(stated, places[f"domain/{name}"]),
            place=places[f"domain/{name}"],
        )


def _form(stated: Mapping[str, str]) -> str:
    """Return how names of a domain are written; %1$s is the name, %2$s the domain, %3$s its short name (sssd.conf(5), full_name_format)."""
    if stated.get("use_fully_qualified_names", "").lower() != "true":
        return "{name}"
    written = stated.get("full_name_format", "%1$s@%2$s")
    return written.replace("%1$s", "{name}").replace("%2$s", "{domain}").replace("%3$s", "{short}")


def _access(stated: Mapping[str, str], place: Place) -> AccessRules | None:
    """Return which accounts the access_provider of a domain accepts; nothing where it accepts all."""
    provider = stated.get("access_provider", "permit").lower()
    if provider == "permit":
        return None
    return AccessRules(
        provider=provider,
        users=_names(stated, "simple_allow_users"),
        groups=_names(stated, "simple_allow_groups"),
        refused_users=_names(stated, "simple_deny_users") or (),
        refused_groups=_names(stated, "simple_deny_groups") or (),
        filter=stated.get("ad_access_filter" if provider == "ad" else "ldap_access_filter", ""),
        place=place,
    )


def _names(stated: Mapping[str, str], key: str) -> tuple[str, ...] | None:
    """Return a list of names, in which a comma that belongs to a name is written twice; nothing where none is stated."""
    if key not in stated:
        return None
    parts = stated[key].replace(",,", "\0").split(",")
    return tuple(part.strip().replace("\0", ",") for part in parts if part.strip()) or None


def _of_words(text: str, subject: str, path: str) -> Iterator[DirectorySource]:
    """Yield what a file of keywords and values names: nslcd.conf, ldap.conf."""
    for number, line in enumerate(text.split("\n"), 1):
        found = _WORDS.match(line)
        if found is not None and found[1].lower() == "base":
            yield DirectorySource(name=path, bases=(found[2],), place=Place(subject, path, number, 1))


def _of_samba(text: str, subject: str, path: str, *, winbind: bool) -> Iterator[DirectorySource]:
    """Yield the realm of a machine that is a member of a domain by winbind, and how that writes names (smb.conf(5))."""
    stated = {found[1].lower(): (found[2], number) for number, line in enumerate(text.split("\n"), 1) if (found := _SETTING.match(line))}
    realm, number = stated.get("realm", ("", 0))
    if not realm:
        return
    plain = stated.get("winbind use default domain", ("no", 0))[0].lower() in ("yes", "true", "1")
    separator = stated.get("winbind separator", ("\\", 0))[0]
    backends = [value for key, (value, _) in stated.items() if key.startswith("idmap config ") and key.endswith("backend")]
    yield DirectorySource(
        name=realm,
        realms=(realm.lower(),),
        form="{name}" if plain or not winbind else f"{{short}}{separator}{{name}}",
        numbers_made=winbind and bool(backends) and "ad" not in backends,
        place=Place(subject, path, number, 1),
    )
