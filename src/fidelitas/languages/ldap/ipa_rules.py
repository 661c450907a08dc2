"""Rules of an IPA directory: sudo rules and host-based access rules, from its objects in LDIF.

The objects refer to one another by DN: a rule to users, hosts, commands and services, and to groups of each.  A sudo rule is stated as the
sudoRole object that the directory makes of it for other clients (sudoers.ldap(5)), so that one reader knows what it means.
"""

from collections.abc import Callable, Iterable, Iterator
from functools import cached_property

from fidelitas.distinguished_names import first_value, folded
from fidelitas.facts import HostAccessRule, Place
from fidelitas.languages.ldap.ldif import Entry

__all__ = ["IPA_CLASSES", "IpaRules"]

# Classes of objects that are read here and are neither accounts nor groups of accounts.
IPA_CLASSES = frozenset({
    "ipasudorule", "ipasudocmd", "ipasudocmdgrp", "ipahbacrule", "ipahbacservice", "ipahbacservicegroup", "ipahostgroup", "ipahost",
})  # fmt: skip
_USER_GROUPS = frozenset({"posixgroup", "groupofnames", "ipausergroup"})
# Attributes of a sudo rule that a role has too, under its own name.
_SAME = {
    "ipaSudoOpt": "sudoOption", "sudoOrder": "sudoOrder", "sudoNotBefore": "sudoNotBefore", "sudoNotAfter": "sudoNotAfter",
    "externalUser": "sudoUser", "externalHost": "sudoHost", "hostMask": "sudoHost", "ipaSudoRunAsExtUser": "sudoRunAsUser",
    "ipaSudoRunAsExtGroup": "sudoRunAsGroup",
}  # fmt: skip
# Attributes by which everything of a kind is meant, and the attribute of a role that then says ALL.
_ALL = {
    "userCategory": "sudoUser", "hostCategory": "sudoHost", "cmdCategory": "sudoCommand",
    "ipaSudoRunAsUserCategory": "sudoRunAsUser", "ipaSudoRunAsGroupCategory": "sudoRunAsGroup",
}  # fmt: skip

Texts = list[tuple[str, int]]


class IpaRules:
    """The rules of a directory; `add` takes its objects one by one."""

    def __init__(self, origin: Place) -> None:
        self._origin = origin
        self._others: list[tuple[Entry, set[str]]] = []
        self._rules: list[Entry] = []
        self._access: list[Entry] = []

    def add(self, entry: Entry, classes: set[str]) -> None:
        """Take an object."""
        if "ipasudorule" in classes:
            self._rules.append(entry)
        elif "ipahbacrule" in classes:
            self._access.append(entry)
        else:
            self._others.append((entry, classes))

    @cached_property
    def _by_dn(self) -> dict[str, tuple[Entry, set[str]]]:
        """What rules refer to, with its classes: worked out where there is a rule."""
        return {folded(entry.first("dn") or ""): (entry, classes) for entry, classes in self._others}

    def sudo_roles(self) -> Iterator[Entry]:
        """Yield a sudoRole object for each sudo rule that is enabled; the lines are those of the rule."""
        return (self._role(entry) for entry in self._rules if _enabled(entry))

    @property
    def sudo_names(self) -> frozenset[str]:
        """The names of all sudo rules, of which the directory keeps a copy as sudoRole objects."""
        return frozenset(entry.first("cn") or "" for entry in self._rules)

    def access_rules(self) -> tuple[HostAccessRule, ...] | None:
        """Return the host-based access rules that are enabled; nothing where the directory has none at all."""
        if not self._access:
            return None
        return tuple(self._access_rule(entry) for entry in self._access if _enabled(entry))

    # -- sudo ----------------------------------------------------------------------------------------------------------------------

    def _role(self, entry: Entry) -> Entry:
        role = Entry(entry.line, {"cn": entry.texts("cn"), "dn": entry.texts("dn"), "objectclass": [("sudoRole", entry.line)]})
        for ours, theirs in _SAME.items():
            _extend(role, theirs, entry.texts(ours))
        _extend(role, "sudoRunAsUser", ((f"%{name}", line) for name, line in entry.texts("ipaSudoRunAsExtUserGroup")))
        _extend(role, "sudoUser", self._accounts(entry.texts("memberUser")))
        _extend(role, "sudoHost", self._below(entry.texts("memberHost"), self._host))
        _extend(role, "sudoCommand", self._below(entry.texts("memberAllowCmd"), self._command))
        _extend(role, "sudoCommand", ((f"!{path}", line) for path, line in self._below(entry.texts("memberDenyCmd"), self._command)))
        _extend(role, "sudoRunAsUser", self._accounts(entry.texts("ipaSudoRunAs")))
        _extend(role, "sudoRunAsGroup", ((first_value(dn), line) for dn, line in entry.texts("ipaSudoRunAsGroup")))
        for ours, theirs in _ALL.items():
            if (entry.first(ours) or "").lower() == "all":
                role.values[theirs.lower()] = [*(one for one in role.texts(theirs) if one[0].startswith("!")), ("ALL", entry.line)]
        return role

    def _accounts(self, texts: Texts) -> Iterator[tuple[str, int]]:
        """Yield accounts by their names, and groups with a percent sign."""
        return ((f"%{name}" if is_group else name, line) for name, is_group, line in map(self._account, texts))

    def _account(self, text: tuple[str, int]) -> tuple[str, bool, int]:
        """Return the name of an account or group that a DN means, and whether it is a group; of no object here, by the DN."""
        dn, line = text
        known = self._by_dn.get(folded(dn))
        is_group = bool(known[1] & _USER_GROUPS) if known is not None else ",cn=groups," in folded(dn)
        name = (known[0].first("cn" if is_group else "uid") if known is not None else None) or first_value(dn)
        return name, is_group, line

    def _host(self, dn: str) -> str:
        known = self._by_dn.get(folded(dn))
        return (known[0].first("fqdn") if known is not None else None) or first_value(dn)

    def _command(self, dn: str) -> str:
        known = self._by_dn.get(folded(dn))
        return (known[0].first("sudoCmd") if known is not None else None) or first_value(dn)

    # -- who may log in where --------------------------------------------------------------------------------------------------------

    def _access_rule(self, entry: Entry) -> HostAccessRule:
        accounts = [self._account(text) for text in entry.texts("memberUser")]
        hosts = [*self._below(entry.texts("memberHost"), self._host), *entry.texts("externalHost")]
        return HostAccessRule(
            name=entry.first("cn") or "",
            users=tuple(name for name, is_group, _ in accounts if not is_group),
            groups=tuple(name for name, is_group, _ in accounts if is_group),
            all_users=_is_all(entry, "userCategory"),
            hosts=tuple(name for name, _ in hosts),
            all_hosts=_is_all(entry, "hostCategory"),
            services=tuple(name for name, _ in self._below(entry.texts("memberService"), first_value)),
            all_services=_is_all(entry, "serviceCategory"),
            place=self._origin.at(entry.line),
        )

    def _below(self, texts: Texts, name: Callable[[str], str]) -> Iterator[tuple[str, int]]:
        """Yield what the objects of some DNs are called, members of groups in place of the groups, at any depth; each once."""
        met: set[str] = set()
        waiting = list(reversed(texts))
        while waiting:
            dn, line = waiting.pop()
            key = folded(dn)
            if key in met:
                continue
            met.add(key)
            members = self._members(key)
            if members is None:
                yield name(dn), line
            else:
                waiting += [(member, line) for member in reversed(members)]

    def _members(self, key: str) -> list[str] | None:
        """Return the DNs that a group of hosts, commands or services lists; nothing for what is not a group."""
        entry, classes = self._by_dn.get(key, (None, set()))
        if entry is None or not classes & {"ipahostgroup", "ipasudocmdgrp", "ipahbacservicegroup"}:
            return None
        return [dn for dn, _ in entry.texts("member")]


def _enabled(entry: Entry) -> bool:
    return (entry.first("ipaEnabledFlag") or "TRUE").upper() == "TRUE" and (entry.first("accessRuleType") or "allow").lower() == "allow"


def _is_all(entry: Entry, category: str) -> bool:
    return (entry.first(category) or "").lower() == "all"


def _extend(entry: Entry, name: str, texts: Iterable[tuple[str, int]]) -> None:
    more = list(texts)
    if more:
        entry.values[name.lower()] = [*entry.texts(name), *more]
