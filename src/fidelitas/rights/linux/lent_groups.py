"""Groups that pam_group(8) adds to anyone who logs in by certain services: group.conf(5)."""

import re
from collections.abc import Callable, Iterator
from functools import partial

from fidelitas.facts import LentGroups, Logins
from fidelitas.patterns import wildcard_matches
from fidelitas.rights.accounts.identity import Identity
from fidelitas.rights.linux.population import Population

__all__ = ["lent_groups"]


def lent_groups(logins: Logins, population: Population) -> Iterator[tuple[Identity | None, int, LentGroups]]:
    """Yield each account, or ``None`` for any, with each group that it is lent; only lines of services that use pam_group count."""
    using = {name for name, rules in logins.pam.items() if any(rule.module == "pam_group.so" for rule in rules)}
    for lent in logins.lent_groups:
        if not any(_holds(lent.services, partial(_fits, name)) for name in using):
            continue
        gids = [gid for gid, name in sorted(population.group_names.items()) if name in lent.groups]
        everyone = lent.users.strip() == "*"
        for who in (None,) if everyone else (one for one in population.ordinary if _meant(lent, one)):
            yield from ((who, gid, lent) for gid in gids)


def _meant(lent: LentGroups, who: Identity) -> bool:
    groups = {membership.group.name for membership in who.memberships}
    return _holds(lent.users, lambda pattern: pattern[1:] in groups if pattern.startswith("%") else wildcard_matches(pattern, who.name))


def _fits(name: str, pattern: str) -> bool:
    return wildcard_matches(pattern, name)


def _holds(listed: str, fits: Callable[[str], bool]) -> bool:
    """Return what a logic list says, from left to right: patterns with "!", "&" and "|" (group.conf(5))."""
    said, operator = False, "|"
    for word in re.split(r"([&|])", listed):
        if word in ("&", "|"):
            operator = word
            continue
        pattern = word.strip()
        one = fits(pattern.lstrip("!").strip()) != pattern.startswith("!")
        said = said or one if operator == "|" else said and one
    return said
