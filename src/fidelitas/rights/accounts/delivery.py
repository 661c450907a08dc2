"""Which of a directory's sudo rules sudo gets: by sssd, or from the server itself.

sssd finds them by the names of the host and of the account, spelled out.  sudo itself asks then for the host, the command and the rest of a
rule that it was given, and no more for the account: a user whom a rule takes out again (``!name``) has it all the same (sssd-sudo(5); sudo,
plugins/sudoers/sssd.c).

Where sudo asks the server, that finds rules by the names of the account and its groups as they are spelled, and none that takes one of them
out again (sudoers.ldap(5); plugins/sudoers/ldap.c, sudo_ldap_build_pass1).
"""

from collections.abc import Iterable
from ipaddress import ip_interface

from msgspec import Struct
from msgspec.structs import replace

from fidelitas.facts import Member, MemberKind, SudoPolicy, SudoRule

__all__ = ["Here", "Names", "addresses_of", "given_by_server", "given_by_sssd"]

_WILDCARDS = frozenset("*?[\\")
_NAMES = (MemberKind.NAME, MemberKind.WORD)


class Names:
    """Names as they are written; with `exact` letters large and small differ."""

    def __init__(self, names: Iterable[str], *, exact: bool) -> None:
        self._names, self._exact = frozenset(names), exact
        self._folded = frozenset(name.lower() for name in self._names) if exact else frozenset[str]()

    def has(self, name: str) -> bool:
        """Return whether a name is one of these."""
        return name in self._names or (not self._exact and name.lower() in {one.lower() for one in self._names})

    def finds(self, name: str) -> bool:
        """Return whether a name is one of these; one that no account has is left to sudo, which finds no account either."""
        return name in self._names or name.lower() not in self._folded


class Here(Struct, frozen=True, dict=True):
    """What the host is called, and its accounts and groups; whether rules for hosts by wildcards are found (ldap_sudo_include_regexp).

    Of its `addresses`, and the networks that these are in, those of the loopback do not count; ``None`` where they are not known.
    """

    hosts: Names
    addresses: frozenset[str] | None
    accounts: Names
    groups: Names
    wildcards: bool


def given_by_sssd(policy: SudoPolicy, here: Here) -> SudoPolicy:
    """Return the policy of a directory as sudo gets it: without rules that sssd does not find, and with those whom it finds them for."""
    return replace(policy, rules=tuple(_given(policy.rules, here)))


def _given(rules: Iterable[SudoRule], here: Here) -> Iterable[SudoRule]:
    for rule in rules:
        named = [one for one in rule.users if not one.negated]
        # A rule that names a netgroup is given for every account: who is in it is left to sudo, and who is in the groups that it names.
        for_all = any(one.kind is MemberKind.NETGROUP for one in named)
        users = tuple(one for one in named if (for_all and one.kind is MemberKind.GROUP) or _finds_user(one, here))
        if users and any(_finds_host(one, here) for one in rule.hosts if not one.negated):
            yield rule if users == rule.users else replace(rule, users=users)


def given_by_server(policy: SudoPolicy, accounts: Names, groups: Names) -> SudoPolicy:
    """Return the policy of a directory as sudo gets it from the server: whom a rule takes out again it never gives anything."""
    found = ((rule, [one for one in rule.users if _is_spelled(one, accounts, groups)]) for rule in policy.rules)
    ordered = ((rule, tuple(sorted(users, key=lambda one: one.negated))) for rule, users in found)  # what comes last counts
    return replace(policy, rules=tuple(rule if users == rule.users else replace(rule, users=users) for rule, users in ordered if users))


def _is_spelled(one: Member, accounts: Names, groups: Names) -> bool:
    if one.kind is MemberKind.GROUP:
        return one.value.startswith("%#") or groups.finds(one.value[1:])
    return one.kind not in _NAMES or accounts.finds(one.value)


def _finds_user(one: Member, here: Here) -> bool:
    if one.kind is MemberKind.GROUP:
        return not one.value.startswith("%#") and here.groups.finds(one.value[1:])
    return one.kind not in _NAMES or here.accounts.finds(one.value)


def _finds_host(one: Member, here: Here) -> bool:
    if one.kind is MemberKind.ADDRESS:
        return one.value in here.addresses if here.addresses is not None else bool(addresses_of([one.value]))
    if one.kind not in _NAMES:
        return True
    if not _WILDCARDS.isdisjoint(one.value):
        return here.wildcards
    return here.hosts.has(one.value)


def addresses_of(interfaces: Iterable[str]) -> frozenset[str]:
    """Return the addresses and networks of interfaces as sssd looks for them: those of the loopback are left out."""
    found: set[str] = set()
    for text in interfaces:
        try:
            interface = ip_interface(text)
        except ValueError:
            continue
        if not interface.is_loopback:
            found |= {str(interface.ip), str(interface.network), interface.network.with_netmask}
    return frozenset(found)
