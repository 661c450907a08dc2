"""What of a directory a host sees: where it looks, and which numbers and names it takes (sssd.conf(5), sssd-ldap(5)).

A filter that asks for what is not in evidence leaves nothing out, and is a gap.
"""

import re
from collections.abc import Iterator, Mapping, Sequence

from msgspec.structs import replace

from fidelitas.distinguished_names import first_value, folded, levels_below
from fidelitas.facts import DirectoryAccount, DirectorySource, Gap, MemberNaming, SearchBase, StatedGroup, SudoPolicy
from fidelitas.rights.directory.filters import FilterError, Matcher, matcher

__all__ = ["View", "unread_settings"]

# What nslcd takes for a name of an account or group (nslcd.conf(5), validnames).
_is_plain = re.compile(r"[a-z0-9._@$()](?:[a-z0-9._@$() \\~-]*[a-z0-9._@$()~-])?", re.IGNORECASE).fullmatch
# How many levels below its base a search goes.
_REACH = {"base": range(1), "onelevel": range(1, 2)}
# Attributes that are known of each.
_OF_GROUPS = frozenset({"cn", "gidnumber", "samaccountname", "objectclass", "memberof"})
_OF_RULES = frozenset({"objectclass"})
_OF_PEOPLE = frozenset({"uid", "uidnumber", "gidnumber", "samaccountname", "mail", "title", "department", "objectclass", "memberof"})


class View:
    """What one host sees of a directory, as its files say: everything, where they say nothing."""

    def __init__(self, source: DirectorySource | None) -> None:
        self._source = source
        self._people = _searches(source.people) if source is not None else []
        self._groups = _searches(source.groups) if source is not None else []
        self._rules = _searches(source.rules) if source is not None else []

    def sees_account(self, account: DirectoryAccount) -> bool:
        """Return whether the host has an account."""
        source, posix = self._source, account.posix
        if source is None:
            return True
        name = posix.name if posix is not None else account.name
        if posix is not None and not source.numbers_made and not self._takes_numbers(posix.uid, posix.gid):
            return False
        numbers = {"uidnumber": str(posix.uid), "gidnumber": str(posix.gid)} if posix is not None else {}
        texts = {"uid": name, "samaccountname": account.name, "mail": account.mail, **numbers}
        texts |= {"title": account.title, "department": account.department}
        texts |= {"cn": first_value(account.dn)} if account.sid is not None else {}  # there it is one value, which the DN begins with
        known = {**_folded(texts), "memberof": frozenset(folded(dn) for dn, _ in account.member_of)}
        hidden = _is_hidden(name, source.name, source.hidden_accounts) or (source.plain_names and not _is_plain(name))
        return not hidden and _is_within(account.dn, self._people, known)

    def sees_group(self, group: StatedGroup) -> bool:
        """Return whether the host has a group, or it leads to others there."""
        source = self._source
        if source is None:
            return True
        if group.gid is None and source.naming not in (MemberNaming.ANY, MemberNaming.LOGON) and not source.numbers_made:
            return False
        if source.plain_names and not _is_plain(group.name):
            return False
        texts = {"cn": group.name, "samaccountname": group.name, "gidnumber": str(group.gid)}
        return _is_within(group.dn, self._groups, {**_folded(texts), "memberof": frozenset(folded(dn) for dn, _ in group.member_of)})

    def numbers_group(self, group: StatedGroup) -> bool:
        """Return whether a group that the host sees is one there: one that is hidden, or of another number, only leads to others."""
        source = self._source
        if source is None:
            return True
        if source.numbers_made:  # those that every machine has of its own are not the domain's there
            taken = (group.sid is None or group.rid is not None) and group.security is not False
        else:
            taken = group.gid is None or _is_between(group.gid, source.least_gid, source.most)
        return taken and not _is_hidden(group.name, source.name, source.hidden_groups)

    def rules_of(self, policy: SudoPolicy) -> SudoPolicy:
        """Return the sudo rules and options that the host looks for in the directory."""
        if not self._rules:
            return policy
        rules = tuple(one for one in policy.rules if _is_within(one.dn, self._rules, {}))
        return replace(policy, rules=rules, defaults=tuple(one for one in policy.defaults if _is_within(one.dn, self._rules, {})))

    def _takes_numbers(self, uid: int, gid: int) -> bool:
        source = self._source
        return source is None or (_is_between(uid, source.least_uid, source.most) and _is_between(gid, source.least_gid, source.most))


def _is_between(number: int, least: int, most: int) -> bool:
    return number >= least and (not most or number <= most)


_Search = tuple[SearchBase, Matcher | None]


def _searches(bases: Sequence[SearchBase]) -> list[_Search]:
    return [(base, _matcher(base.filter)) for base in bases]


def _matcher(text: str) -> Matcher | None:
    try:
        return matcher(text) if text else None
    except FilterError:  # told as a setting that is not read
        return None


def _folded(texts: Mapping[str, str]) -> dict[str, frozenset[str]]:
    return {name: frozenset({value.casefold()} - {""}) for name, value in texts.items()}


def _is_within(dn: str, searches: Sequence[_Search], known: Mapping[str, frozenset[str]]) -> bool:
    if not searches:
        return True
    for base, matches in searches:
        levels = levels_below(dn, base.dn)
        if levels is not None and levels in _REACH.get(base.scope, range(levels + 1)) and (matches is None or matches(known) is not False):
            return True
    return False


def _is_hidden(name: str, domain: str, hidden: frozenset[str]) -> bool:
    return name in hidden or f"{name}@{domain}" in hidden


def unread_settings(source: DirectorySource) -> Iterator[Gap]:
    """Yield a gap for each setting of a host that bears on what it takes of a directory and is not read."""
    of_people = _OF_PEOPLE | {"cn"} if source.numbers_made else _OF_PEOPLE
    filters = [base.filter for base in source.people if not _is_read(base.filter, of_people)]
    filters += [base.filter for base in source.groups if not _is_read(base.filter, _OF_GROUPS)]
    filters += [base.filter for base in source.rules if not _is_read(base.filter, _OF_RULES)]
    for what in (*source.unread, *(f"the filter {text}" for text in dict.fromkeys(filters))):
        why, weakens = f'"{source.name}": {what} is not read', "which accounts, groups and sudo rules of the directory the host has"
        yield Gap(what="settings of the directory", why=why, weakens=weakens, place=source.place)


def _is_read(text: str, attributes: frozenset[str]) -> bool:
    """Return whether a filter, or that there is none, is decided by some attributes."""
    try:
        return not text or matcher(text)(dict.fromkeys(attributes, frozenset[str]())) is not None
    except FilterError:
        return False
