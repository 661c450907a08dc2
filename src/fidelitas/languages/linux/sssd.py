"""What sssd takes of a directory, and which of its accounts it accepts: sssd.conf(5), sssd-ldap(5), sssd-ad(5), sssd-simple(5).

Of each domain: whether it is enabled, where it looks, which numbers and names it takes, how its names are written, how groups name their
members, and who may log in.  Up to how many levels groups within groups are looked up does not count: sssd's cache holds what any account's
lookup has found, and makes deeper ones effective.  Passwords are never read.
"""

import re
from collections.abc import Iterator, Mapping

from msgspec.structs import replace

from fidelitas.facts import AccessRules, DirectorySource, MemberNaming, Place, RuleSearch, SearchBase, SidNumbers

__all__ = ["MAIN", "read_sssd", "setting_of"]

MAIN = "/etc/sssd/sssd.conf"
_KEY = re.compile(r"[A-Za-z][A-Za-z_0-9*:. -]*\Z")
_SECTION = re.compile(r"\s*\[([^\]]+)\]")
_BASES = frozenset({"ldap_search_base", "ldap_user_search_base", "ldap_group_search_base"})
_REALMS = frozenset({"ad_domain", "ipa_domain", "krb5_realm"})
_SCOPES = {"sub": "subtree", "subtree": "subtree", "one": "onelevel", "onelevel": "onelevel", "base": "base"}
# Its sources of accounts that are no directory.
_NO_DIRECTORY = ("files", "proxy")
# Settings by which objects or attributes are others than the usual: with them it is not known here what the host takes.
_UNREAD = frozenset(
    {
        "ldap_user_object_class", "ldap_group_object_class", "ldap_user_name", "ldap_user_uid_number", "ldap_user_gid_number",
        "ldap_group_name", "ldap_group_gid_number",
    }
)  # fmt: skip

Stated = Mapping[str, str]


def setting_of(line: str) -> tuple[str, str] | None:
    """Return the key of a line, in small letters, and its value; ``None`` of a line that sets nothing."""
    key, equals, value = (part.strip() for part in line.partition("="))
    return (key.lower(), value) if equals and _KEY.match(key) else None


def read_sssd(texts: Mapping[str, str], subject: str) -> Iterator[DirectorySource]:
    """Yield the domains of sssd by its files, in the order in which it asks them; a later file adds to an earlier one."""
    sections: dict[str, dict[str, str]] = {}
    places: dict[str, Place] = {}
    for path in sorted(texts, key=lambda path: (path != MAIN, path)):
        section = ""
        for number, line in enumerate(texts[path].split("\n"), 1):
            if (header := _SECTION.match(line)) is not None:
                section = header[1].strip()
                places.setdefault(section, Place(subject, path, number, 1))
            elif (setting := setting_of(line)) is not None:
                sections.setdefault(section, {})[setting[0]] = setting[1]
    for name in _asked(sections, [name.removeprefix("domain/") for name in places if name.startswith("domain/")]):
        stated = sections.get(f"domain/{name}", {})
        if stated.get("id_provider") not in _NO_DIRECTORY and f"domain/{name}" in places:
            hidden = {key: value for key, value in sections.get("nss", {}).items() if key.startswith("filter_")}
            yield _source(name, {**sections.get("sssd", {}), **hidden, **stated}, places[f"domain/{name}"])


def _asked(sections: Mapping[str, Stated], known: list[str]) -> list[str]:
    """Return the domains that are enabled, all that there are where none is named."""
    enabled = [name.strip() for name in sections.get("sssd", {}).get("domains", "").split(",") if name.strip()]
    switched = [name for name in known if _is_true(sections.get(f"domain/{name}", {}), "enabled")]
    return [*enabled, *(one for one in switched if one not in enabled)] or known


def _source(name: str, stated: Stated, place: Place) -> DirectorySource:
    provider = stated.get("id_provider", "")
    realms = [stated[key] for key in sorted(_REALMS) if key in stated]
    if provider in ("ad", "ipa") and not realms:
        realms = [name]  # the domain is called as the realm is, unless it says otherwise (sssd-ad(5), ad_domain)
    bases = [base.dn for key in sorted(_BASES) if key in stated for base in _search_bases(stated[key])]
    made = _is_true(stated, "ldap_id_mapping", default=provider == "ad")
    naming = _naming(stated, provider)
    own_primary = _is_true(stated, "auto_private_groups")
    return DirectorySource(
        name=name,
        realms=tuple(realm.lower() for realm in realms),
        bases=tuple(bases),
        form=_form(stated),
        numbers_made=made,
        sid_numbers=_sid_numbers(stated) if made else None,
        people=_search_bases(stated.get("ldap_user_search_base", stated.get("ldap_search_base", ""))),
        groups=_group_bases(stated, provider, naming),
        rules=_search_bases(stated.get("ldap_sudo_search_base", stated.get("ldap_search_base", ""))) if provider != "ipa" else (),
        least_uid=0 if made else _number(stated, "min_id", 1),
        least_gid=0 if made else _number(stated, "min_id", 1),
        most=0 if made else _number(stated, "max_id", 0),
        hidden_accounts=frozenset(_names(stated, "filter_users") or ()) | {"root"},
        hidden_groups=frozenset(_names(stated, "filter_groups") or ()) | {"root"},
        naming=naming,
        member_attribute=stated.get("ldap_group_member", "member"),
        nests=naming is not MemberNaming.DNS or _number(stated, "ldap_group_nesting_level", 1) > 0,
        primary_leads_on=naming in (MemberNaming.ANY, MemberNaming.LOGON) or own_primary,
        primary=_number(stated, "override_gid", 0) or None,
        own_groups=own_primary,
        own_primary=own_primary,
        lower_case=_case(stated, provider) == "false",
        space=stated.get("override_space", "")[:1],
        spares_names=True,
        rule_search=_rule_search(stated, provider),
        takes_rules=stated.get("sudo_provider", "").lower() != "none",
        unread=tuple(sorted(_UNREAD & set(stated))),
        access=_access(stated, place),
        place=place,
    )


def _naming(stated: Stated, provider: str) -> MemberNaming:
    """Return how groups name members; where the directory itself says which groups an account is in, that counts as well (tokenGroups).

    Any lookup of a group adds the members of those within it, which for sssd may be groups for distribution.
    """
    schema = _schema(stated, provider)
    if provider not in ("ldap", "ad"):
        return MemberNaming.ANY
    if schema == "ad" and _is_true(stated, "ldap_use_tokengroups", default=provider == "ad"):
        return MemberNaming.LOGON
    return MemberNaming.NAMES if schema == "rfc2307" else MemberNaming.DNS


def _schema(stated: Stated, provider: str) -> str:
    return stated.get("ldap_schema", "ad" if provider == "ad" else "rfc2307").lower()


def _group_bases(stated: Stated, provider: str, naming: MemberNaming) -> tuple[SearchBase, ...]:
    """Return where groups are looked for; those that an account of Active Directory names are read by their DNs, without a filter."""
    bases = _search_bases(stated.get("ldap_group_search_base", stated.get("ldap_search_base", "")))
    by_account = naming is MemberNaming.DNS and _schema(stated, provider) == "ad"
    return tuple(replace(base, filter="") for base in bases) if by_account else bases


def _rule_search(stated: Stated, provider: str) -> RuleSearch | None:
    """Return how sudo rules are looked for; those of IPA's own form name hosts and accounts by their objects."""
    if provider == "ipa":
        return None
    return RuleSearch(
        exact=_is_exact(stated, provider),
        exact_hosts="ad" not in (provider, stated.get("ldap_schema", "").lower()),  # sudo's schema for other servers: caseExactIA5Match
        wildcards=_is_true(stated, "ldap_sudo_include_regexp"),
    )


def _is_exact(stated: Stated, provider: str) -> bool:
    return _case(stated, provider) not in ("false", "preserving")


def _case(stated: Stated, provider: str) -> str:
    """Return whether letters large and small differ (sssd.conf(5), case_sensitive: not by default in Active Directory)."""
    return stated.get("case_sensitive", "false" if provider == "ad" else "true").lower()


def _is_true(stated: Stated, key: str, *, default: bool = False) -> bool:
    return stated.get(key, str(default)).lower() == "true"


def _number(stated: Stated, key: str, default: int) -> int:
    text = stated.get(key, "")
    return int(text) if text.isdecimal() and len(text) < 12 else default


def _sid_numbers(stated: Stated) -> SidNumbers | None:
    """Return how numbers are made of SIDs; nothing where it depends on which domain a host met first, or on a helper's table."""
    if _is_true(stated, "ldap_idmap_autorid_compat") or "ldap_idmap_default_domain_sid" in stated:
        return None
    usual = SidNumbers()
    return SidNumbers(
        least=_number(stated, "ldap_idmap_range_min", usual.least), most=_number(stated, "ldap_idmap_range_max", usual.most),
        size=_number(stated, "ldap_idmap_range_size", usual.size) or usual.size,
    )  # fmt: skip


def _search_bases(text: str) -> tuple[SearchBase, ...]:
    """Return search bases, each as ``DN[?scope?[filter][?DN?scope?[filter]]*]`` (sssd-ldap(5), ldap_search_base)."""
    parts = [part.strip() for part in text.split("?")]
    if len(parts) == 1:
        return (SearchBase(dn=parts[0]),) if parts[0] else ()
    found = []
    for at in range(0, len(parts), 3):
        dn, scope, filtered = (*parts[at : at + 3], "", "")[:3]
        if dn:
            found.append(SearchBase(dn=dn, scope=_SCOPES.get(scope.lower(), "subtree"), filter=filtered))
    return tuple(found)


def _form(stated: Stated) -> str:
    """Return how names of a domain are written; %1$s is the name, %2$s the domain, %3$s its short name (sssd.conf(5), full_name_format)."""
    if not _is_true(stated, "use_fully_qualified_names", default="default_domain_suffix" in stated):
        return "{name}"
    written = stated.get("full_name_format", "%1$s@%2$s")
    return written.replace("%1$s", "{name}").replace("%2$s", "{domain}").replace("%3$s", "{short}")


def _access(stated: Stated, place: Place) -> AccessRules | None:
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
        order=_names(stated, "ldap_access_order") or ("filter",),
        policies=provider == "ad" and stated.get("ad_gpo_access_control", "enforcing").lower() == "enforcing",
        place=place,
    )


def _names(stated: Stated, key: str) -> tuple[str, ...] | None:
    """Return a list of names, in which a comma that belongs to a name is written twice; nothing where none is stated."""
    if key not in stated:
        return None
    parts = stated[key].replace(",,", "\0").split(",")
    return tuple(part.strip().replace("\0", ",") for part in parts if part.strip()) or None
