"""Whom a host lets log in of a directory's accounts: sssd.conf(5) access_provider, sssd-simple(5), sssd-ad(5), sssd-ldap(5), and rules that
the directory itself has for its hosts.

An account that is refused keeps what it holds, as one that has expired does: lists of holders say that it cannot log in.
"""

import re
from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct

from fidelitas.facts import AccessRules, DirectoryAccount, Gap, HostAccessRule
from fidelitas.rights.directory.filters import FilterError, Matcher, matcher

__all__ = ["Admission", "Applicant", "admission", "applying"]

# Services that an account uses once it is logged in.
_AFTERWARDS = frozenset({"sudo", "sudo-i", "su", "su-l", "runuser", "runuser-l", "polkit-1", "cron", "crond", "atd"})
# What stands before a filter that is for one domain or forest (sssd-ad(5), ad_access_filter).
_DOMAIN = re.compile(r"\A(?:DOM|FOREST):[^:()]*:|\A[A-Za-z0-9.-]+:(?=\()")
_WEAKENS = "who of the directory may log in: accounts that are refused are shown as if they were not"


class Applicant(Struct, frozen=True, kw_only=True):
    """An account as a host knows it: its `name` and its groups by their names there; by their DNs those that list it, and round them."""

    name: str
    account: DirectoryAccount
    groups: frozenset[str]
    listed_by: frozenset[str] = frozenset()
    in_chain: frozenset[str] = frozenset()


class Admission(Struct, frozen=True, kw_only=True):
    """The names of accounts that are refused, and what is not known of it."""

    barred: frozenset[str] = frozenset()
    gaps: tuple[Gap, ...] = ()


def applying(rules: Sequence[HostAccessRule], host: str) -> tuple[HostAccessRule, ...]:
    """Return the rules that are about a host, by its full name or the first part of it."""
    return tuple(rule for rule in rules if rule.all_hosts or any(_same_host(name, host) for name in rule.hosts))


def admission(access: AccessRules | None, rules: Sequence[HostAccessRule] | None, applicants: Sequence[Applicant]) -> Admission:
    """Return whom a host refuses; `rules` are those of the directory that are about this host, ``None`` where it has none of the kind."""
    if access is None:
        return Admission()
    if access.provider == "deny":
        return Admission(barred=frozenset(one.name for one in applicants))
    if access.provider == "simple":
        return Admission(barred=frozenset(one.name for one in applicants if not _listed(access, one)))
    if access.provider == "ldap" and set(access.order) - {"filter"}:
        return Admission(gaps=(_gap(access, f'ldap_access_order "{", ".join(access.order)}" is decided by what is not in evidence'),))
    if access.provider == "ldap" and not access.filter:  # "will result in all users being denied access"
        return Admission(barred=frozenset(one.name for one in applicants))
    if access.provider == "ad" or (access.provider == "ldap" and access.filter):
        return _filtered(access, applicants)
    if access.provider == "ipa" and rules is not None:
        return _by_rules(rules, applicants)
    return Admission(gaps=(_gap(access, f'access_provider "{access.provider}" is decided by what is not in evidence'),))


def _listed(access: AccessRules, one: Applicant) -> bool:
    """Return what sssd-simple(5) says: a refusal comes before a permission, and a list of permissions refuses all others."""
    if _in(one.name, access.refused_users) or any(_in(group, access.refused_groups) for group in one.groups):
        return False
    if access.users is None and access.groups is None:
        return True
    return _in(one.name, access.users or ()) or any(_in(group, access.groups or ()) for group in one.groups)


def _in(name: str, listed: Iterable[str]) -> bool:
    """Return whether a list of sssd.conf has a name, with its domain or without."""
    bare, domain = _parted(name)
    return any(one == bare and (not domain or not other or domain == other) for one, other in map(_parted, listed))


def _parted(name: str) -> tuple[str, str]:
    domain, _, rest = name.casefold().rpartition("\\")
    bare, _, realm = rest.partition("@")
    return bare, domain or realm


def _filtered(access: AccessRules, applicants: Sequence[Applicant]) -> Admission:
    """Accounts that are disabled are refused by a domain, and those that its filter leaves out; a filter for one domain stands after it."""
    closed = frozenset(one.name for one in applicants if one.account.disabled) if access.provider == "ad" else frozenset[str]()
    unread = (
        (_gap(access, "rights to log on by group policies of the domain (ad_gpo_access_control) are not read"),) if access.policies else ()
    )
    if not access.filter:
        return Admission(barred=closed, gaps=unread)
    if access.provider == "ad" and ":" in access.filter and _DOMAIN.match(access.filter) is None:
        # Without a domain before it the first colon is taken for the end of one, and no account is accepted (sssd-ad(5), ad_access_filter).
        return Admission(barred=frozenset(one.name for one in applicants))
    try:
        matches = matcher(_DOMAIN.sub("", access.filter))
    except FilterError as error:
        return Admission(barred=closed, gaps=(*unread, _gap(access, f"its filter is not judged: {error}")))
    unknown = any(_matches(matches, one) is None for one in applicants)
    gaps = (_gap(access, "its filter asks for attributes that are not read"),) if unknown else ()
    return Admission(barred=closed | {one.name for one in applicants if _matches(matches, one) is False}, gaps=(*unread, *gaps))


def _matches(matches: Matcher, one: Applicant) -> bool | None:
    account = one.account
    texts: Mapping[str, frozenset[str]] = {
        "memberof": one.listed_by,
        "memberof:1.2.840.113556.1.4.1941:": one.in_chain,
        "uid": frozenset({account.posix.name.casefold() if account.posix else account.name.casefold()}),
        "samaccountname": frozenset({account.name.casefold()}),
        "department": frozenset({account.department.casefold()} - {""}),
        "title": frozenset({account.title.casefold()} - {""}),
        "mail": frozenset({account.mail.casefold()} - {""}),
    }
    return matches(texts)


def _by_rules(rules: Sequence[HostAccessRule], applicants: Sequence[Applicant]) -> Admission:
    doors = [rule for rule in rules if rule.all_services or set(rule.services) - _AFTERWARDS]
    inside = {one.name for one in applicants if not one.account.disabled and any(_covers(rule, one) for rule in doors)}
    barred = frozenset(one.name for one in applicants) - inside
    for_sudo = [rule for rule in rules if rule.all_services or "sudo" in rule.services]
    without = sorted(one.name for one in applicants if one.name in inside and not any(_covers(rule, one) for rule in for_sudo))
    return Admission(barred=barred, gaps=(_without_sudo(without, doors),) if without and doors else ())


def _covers(rule: HostAccessRule, one: Applicant) -> bool:
    return rule.all_users or one.name in rule.users or not one.groups.isdisjoint(rule.groups)


def _without_sudo(names: Sequence[str], rules: Sequence[HostAccessRule]) -> Gap:
    count, first = len(names), rules[0]
    why = f"they let {count} account{'s' * (count != 1)} log in and not use sudo, first {names[0]}; rights by sudo are shown all the same"
    return Gap(what="host-based access rules", why=why, weakens="who can use sudo", place=first.place)


def _gap(access: AccessRules, why: str) -> Gap:
    return Gap(what="access rules of sssd", why=why, weakens=_WEAKENS, place=access.place)


def _same_host(stated: str, host: str) -> bool:
    one, other = stated.casefold().rstrip("."), host.casefold().rstrip(".")
    return one == other or ("." not in other and one.partition(".")[0] == other)
