"""Which of a directory's sudo rules sssd gives to sudo: those that it finds by the names of the host and of the account, in so many words.

sudo itself asks then for the host, the command and the rest of a rule that it was given, and no more for the account: a user whom a rule
takes out again (``!name``) has it all the same (sssd-sudo(5); sudo, plugins/sudoers/sssd.c).
"""

from collections.abc import Iterable
from dataclasses import dataclass, replace

from fidelitas.facts import Member, MemberKind, SudoPolicy, SudoRule

__all__ = ["Here", "Names", "given_by_sssd"]

_WILDCARDS = frozenset("*?[\\")
_NAMES = (MemberKind.NAME, MemberKind.WORD)


class Names:
    """Names as they are written; with `exact` letters large and small differ."""

    def __init__(self, names: Iterable[str], *, exact: bool) -> None:
        self._names = frozenset(names)
        self._folded = frozenset(name.lower() for name in self._names) if exact else frozenset[str]()

    def finds(self, name: str) -> bool:
        """Return whether a name is one of these; one that is nobody's is left to sudo, which finds nobody either."""
        return name in self._names or name.lower() not in self._folded


@dataclass(frozen=True)
class Here:
    """What the host is called, and its accounts and groups; whether rules for hosts by wildcards are found (ldap_sudo_include_regexp)."""

    hosts: Names
    accounts: Names
    groups: Names
    wildcards: bool


def given_by_sssd(policy: SudoPolicy, here: Here) -> SudoPolicy:
    """Return the policy of a directory as sudo gets it: without rules that sssd does not find, and with those whom it finds them for."""
    return replace(policy, rules=tuple(_given(policy.rules, here)))


def _given(rules: Iterable[SudoRule], here: Here) -> Iterable[SudoRule]:
    for rule in rules:
        users = tuple(one for one in rule.users if not one.negated and _finds_user(one, here))
        if users and any(_finds_host(one, here) for one in rule.hosts if not one.negated):
            yield rule if users == rule.users else replace(rule, users=users)


def _finds_user(one: Member, here: Here) -> bool:
    if one.kind is MemberKind.GROUP:
        return not one.value.startswith("%#") and here.groups.finds(one.value[1:])
    return one.kind not in _NAMES or here.accounts.finds(one.value)


def _finds_host(one: Member, here: Here) -> bool:
    if one.kind not in _NAMES:
        return True
    if not _WILDCARDS.isdisjoint(one.value):
        return here.wildcards
    return here.hosts.finds(one.value)
