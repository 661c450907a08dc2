"""What sshd lets an account do: sshd_config(5) after its Match blocks, and the keys that open the account.

Knows sshd's defaults, and its rules that a Match block overrides and that of equals the first counts.  Of a connection only the account
is known: criteria on addresses, ports and host names are taken as not met, and told.
"""

from collections.abc import Iterator, Sequence

from msgspec import Struct
from msgspec.structs import replace

from fidelitas.facts import AuthorizedKey, HostFacts, Logins, SshdSetting
from fidelitas.patterns import wildcard_matches
from fidelitas.rights.linux.population import Identity, Login, Population

__all__ = [
    "Effective",
    "KeyGrant",
    "is_elsewhere",
    "key_files",
    "key_grants",
    "key_name",
    "may_connect",
    "named_files",
    "sshd_for",
    "with_keys",
]

# sshd_config(5), as OpenSSH 9 has them.
_DEFAULTS = {
    "permitrootlogin": "prohibit-password",
    "passwordauthentication": "yes",
    "kbdinteractiveauthentication": "yes",
    "pubkeyauthentication": "yes",
    "permitemptypasswords": "no",
    "usepam": "no",
    "strictmodes": "yes",
    "authorizedkeysfile": ".ssh/authorized_keys .ssh/authorized_keys2",
    "authorizedkeyscommand": "none",
    "trustedusercakeys": "none",
    "forcecommand": "none",
    "chrootdirectory": "none",
    "hostbasedauthentication": "no",
}
_SYNONYMS = {"challengeresponseauthentication": "kbdinteractiveauthentication", "dsaauthentication": "pubkeyauthentication"}
# These add up; of all others the first counts.
_LISTS = frozenset({"allowusers", "allowgroups", "denyusers", "denygroups"})
_NOT_KNOWN = frozenset({"host", "address", "localaddress", "localport", "rdomain", "version", "tagged"})


class Effective(Struct, frozen=True, kw_only=True):
    """The settings for one account: `values` by keyword in lower case, with sshd's defaults; `stated` the lines that gave them."""

    values: dict[str, str]
    stated: dict[str, SshdSetting]
    lists: dict[str, tuple[str, ...]]

    def on(self, keyword: str) -> bool:
        """Return whether a setting of yes or no is yes."""
        return self.values.get(keyword, "no").lower() == "yes"


def sshd_for(logins: Logins, who: Identity, population: Population) -> Effective:
    """Return the settings that sshd uses for an account."""
    values: dict[str, str] = {}
    stated: dict[str, SshdSetting] = {}
    lists: dict[str, tuple[str, ...]] = {}
    groups = [population.group_names.get(gid, "") for gid in who.gids]
    told = [(setting, _applies(setting, who.name, groups)) for setting in logins.sshd or ()]
    # What stands in a Match block that applies overrides what stands outside (sshd_config(5), Match); of equals the first counts.
    for inside in (True, False):
        settled = set(lists)
        for setting, applies in told:
            keyword = _SYNONYMS.get(setting.keyword, setting.keyword)
            if not applies or bool(setting.matches) is not inside:
                continue
            if keyword in _LISTS:
                if keyword not in settled:
                    lists[keyword] = (*lists.get(keyword, ()), *setting.arguments)
            elif keyword not in values:
                values[keyword], stated[keyword] = " ".join(setting.arguments), setting
    return Effective(values={**_DEFAULTS, **values}, stated=stated, lists=lists)


def _applies(setting: SshdSetting, name: str, groups: Sequence[str]) -> bool:
    """Return whether the Match blocks of a line hold for an account wherever it comes from."""
    for criterion, patterns in setting.matches:
        if criterion == "user" and not _listed(patterns, [name]):
            return False
        if criterion == "group" and not _listed(patterns, groups):
            return False
        if criterion not in ("user", "group", "all"):
            return False
    return True


def is_elsewhere(setting: SshdSetting) -> bool:
    """Return whether a line counts for connections from some addresses or to some names alone, which are not known."""
    return any(criterion in _NOT_KNOWN for criterion, _ in setting.matches)


def _listed(patterns: str, names: Sequence[str]) -> bool:
    """Return whether one of the names fits a list of patterns (ssh_config(5), PATTERNS): a negated one that fits says no to all."""
    stated = patterns.split(",")
    if any(one.startswith("!") and any(wildcard_matches(one[1:], name) for name in names) for one in stated):
        return False
    return any(not one.startswith("!") and any(wildcard_matches(one, name) for name in names) for one in stated)


def may_connect(effective: Effective, who: Identity, population: Population) -> str:
    """Return why sshd refuses an account whatever it shows, or nothing (sshd_config(5), DenyUsers and its kin, in their order)."""
    groups = [population.group_names.get(gid, "") for gid in who.gids]
    names = {"denyusers": [who.name], "allowusers": [who.name], "denygroups": groups, "allowgroups": groups}
    for keyword in ("denyusers", "allowusers", "denygroups", "allowgroups"):
        patterns = effective.lists.get(keyword)
        if patterns is None:
            continue
        # USER@HOST: the host is not known; such a pattern lets in, and does not keep out.
        denies = keyword.startswith("deny")
        users = [pattern.partition("@")[0] for pattern in patterns if not (denies and "@" in pattern)]
        if any(wildcard_matches(user, name) for user in users for name in names[keyword]) is denies:
            return keyword
    if who.uid == 0 and effective.values["permitrootlogin"].lower() == "no":
        return "permitrootlogin"
    return ""


def key_name(key: AuthorizedKey) -> str:
    """Return what a key is called as a holder: its fingerprint, and its comment in brackets."""
    return f"{key.fingerprint} ({key.comment})" if key.comment else key.fingerprint


class KeyGrant(Struct, frozen=True, kw_only=True):
    """A key that opens an account; `conditions` is where it may be used from, `command` what it is confined to, if anything."""

    key: AuthorizedKey
    path: str
    command: str
    conditions: tuple[str, ...]


def key_grants(facts: HostFacts, who: Identity, population: Population) -> Iterator[KeyGrant]:
    """Yield the keys that open an account over SSH; none where sshd is not there or refuses it."""
    logins = facts.logins
    if logins.sshd is None or logins.keys is None or who.account is None:
        return
    if who.of_directory and not _has_key_file(logins, who):
        return
    effective = sshd_for(logins, who, population)
    if not effective.on("pubkeyauthentication") or may_connect(effective, who, population):
        return
    besides = _besides_a_key(effective)
    if besides is None:
        return
    confined = "" if effective.values["forcecommand"] == "none" else effective.values["forcecommand"]
    root_only_forced = who.uid == 0 and effective.values["permitrootlogin"].lower() == "forced-commands-only"
    for path in key_files(effective, who):
        for key in logins.keys.get(path, ()):
            command = confined or key.option("command") or ""
            if not (root_only_forced and not command):
                yield KeyGrant(key=key, path=path, command=command, conditions=(*_conditions(key), *besides))
    # What one of these keys has signed opens every account (sshd_config(5), TrustedUserCAKeys).
    authorities = effective.values["trustedusercakeys"]
    for key in logins.keys.get(authorities, ()) if authorities.startswith("/") and not root_only_forced else ():
        named = effective.values.get("authorizedprincipalsfile", "none") != "none"
        signed = ("for a principal that the account accepts (AuthorizedPrincipalsFile)",) if named else ()
        yield KeyGrant(key=replace(key, authority=True), path=authorities, command=confined, conditions=(*signed, *besides))


def _has_key_file(logins: Logins, who: Identity) -> bool:
    """Return whether a key file can be an account's, at a glance: there are thousands of accounts in a directory, and few such files."""
    if any(setting.keyword == "authorizedkeysfile" for setting in logins.sshd or ()):
        return True
    home = who.account.home.rstrip("/") + "/" if who.account else "/"
    return any(path.startswith(home) for path in logins.keys or ())


def _besides_a_key(effective: Effective) -> tuple[str, ...] | None:
    """Return what sshd asks for besides a key (sshd_config(5), AuthenticationMethods), or ``None`` where it takes none."""
    lists = [one.lower().split(",") for one in effective.values.get("authenticationmethods", "any").split()]
    if ["any"] in lists or any(set(one) == {"publickey"} for one in lists):
        return ()
    with_key = [one for one in lists if "publickey" in one]
    if not with_key:
        return None
    others = [method for method in min(with_key, key=len) if method != "publickey"]
    return (f"with {' and '.join(dict.fromkeys(others))} besides (AuthenticationMethods)",)


def _conditions(key: AuthorizedKey) -> Iterator[str]:
    source, until = key.option("from"), key.option("expiry-time")
    if source:
        yield f"from {source} only"
    if until:
        yield f"until {until}"


def key_files(effective: Effective, who: Identity) -> Iterator[str]:
    """Yield the files in which sshd looks for an account's keys."""
    yield from named_files(effective.values["authorizedkeysfile"], who)


def named_files(words: str, who: Identity) -> Iterator[str]:
    """Yield the files of an account that a setting names (sshd_config(5), TOKENS); relative ones are below its home."""
    home = who.account.home if who.account else "/"
    for word in words.split():
        if word.lower() == "none":
            continue
        path = word.replace("%%", "\0").replace("%u", who.name).replace("%h", home).replace("%U", str(who.uid)).replace("\0", "%")
        yield path if path.startswith("/") else f"{home.rstrip('/')}/{path}"


def with_keys(population: Population, facts: HostFacts) -> Population:
    """Return the population with log-ins by key told, where keys were looked for."""
    if facts.logins.keys is None:
        return population
    return replace(population, identities=tuple(_with_key(who, facts, population) for who in population.identities))


def _with_key(who: Identity, facts: HostFacts, population: Population) -> Identity:
    if who.login is not Login.NO_PASSWORD:
        return who
    opened = any(not key_grant.command for key_grant in key_grants(facts, who, population))
    by_other_means = facts.logins.sshd is not None and _other_means(sshd_for(facts.logins, who, population))
    return replace(who, login=Login.KEY if opened else who.login if by_other_means else Login.NEITHER)


def _other_means(effective: Effective) -> bool:
    """Return whether sshd also takes keys that are in no file: from a command, or signed by an authority."""
    return any(effective.values[keyword].lower() != "none" for keyword in ("authorizedkeyscommand", "trustedusercakeys"))
