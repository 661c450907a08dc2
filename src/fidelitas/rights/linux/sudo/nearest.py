"""What came nearest to allowing a command that is not allowed, and what differs.

For people who were refused: the rules that are about them, ordered by how far each of them fits, with the first difference in words.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

from fidelitas.facts import SudoRule
from fidelitas.rights.linux.sudo.commands import ResolvedCommand, arguments_match
from fidelitas.rights.linux.sudo.grants import Leaf, leaves
from fidelitas.rights.linux.sudo.matching import Policy
from fidelitas.rights.linux.sudo.run_as import Target, run_as_matches

__all__ = ["Near", "nearest"]


@dataclass(frozen=True, slots=True)
class Near:
    """A rule that nearly fits: the command of it, what differs, and how many of the criteria fit."""

    rule: SudoRule
    leaf: Leaf
    differs: str
    closeness: int


def nearest(policy: Policy, target: Target, resolved: ResolvedCommand, now: datetime, most: int = 3) -> list[Near]:
    """Return the rules that came nearest, the nearest first, one command of each."""
    found = []
    for rule in reversed(policy.facts.rules):
        near = max(_differences(policy, rule, target, resolved, now), key=lambda near: near.closeness, default=None)
        if near is not None and near.closeness > 0:
            found.append(near)
    return sorted(found, key=lambda near: -near.closeness)[:most]


def _differences(policy: Policy, rule: SudoRule, target: Target, resolved: ResolvedCommand, now: datetime) -> Iterator[Near]:
    user = policy.users(rule.users, target.who)
    if user is None or not user.allowed:
        return
    for leaf in leaves(policy, rule.command):
        if not leaf.allowed:
            continue
        differs, closeness = _first_difference(policy, rule, leaf, target, resolved, now)
        if differs:
            yield Near(rule, leaf, differs, closeness)


def _first_difference(
    policy: Policy, rule: SudoRule, leaf: Leaf, target: Target, resolved: ResolvedCommand, now: datetime
) -> tuple[str, int]:
    """Return the most telling difference, and a count of what fits: the command first, then its arguments, run-as, host and time."""
    host = policy.hosts(rule.hosts)
    same_host = host is not None and host.allowed
    same_target = run_as_matches(policy, rule.run_as_users, rule.run_as_groups, target) is True
    in_time = _in_time(rule, now)
    stated = leaf.command
    name_fits = stated.path in ("ALL", resolved.path) or stated.path.rpartition("/")[2] == resolved.name
    same_arguments = stated.path == "ALL" or arguments_match(stated, resolved)
    closeness = 2 * name_fits + (name_fits and same_arguments) + same_target + same_host + in_time
    if not name_fits:
        return f"the command differs: the rule allows {stated}", closeness - 2 if closeness > 2 else closeness
    if stated.path not in ("ALL", resolved.path):
        return f"the path differs: the rule allows {stated.path}, asked was {resolved.path}", closeness
    if not same_arguments:
        wanted = "no arguments" if stated.arguments == "" else f'"{stated.arguments}"'
        given = "none" if resolved.arguments is None else f'"{resolved.arguments}"'
        return f"arguments differ: the rule allows {wanted}, asked was {given}", closeness
    if not same_target:
        return f"whom to run as differs: the rule allows {_run_as(rule, target)}, asked was {_asked_as(target)}", closeness
    if not same_host:
        return f"the host differs: the rule is for {', '.join(map(str, rule.hosts))}, this is {policy.host.full}", closeness
    return ("" if in_time else "the rule is out of its time (NOTBEFORE, NOTAFTER)"), closeness


def _in_time(rule: SudoRule, now: datetime) -> bool:
    before = rule.options.not_before
    after = rule.options.not_after
    return not (before is not None and now < before) and not (after is not None and now > after)


def _run_as(rule: SudoRule, target: Target) -> str:
    if rule.run_as_users is None and rule.run_as_groups is None:
        return target.default
    users = ", ".join(str(member) or "oneself" for member in rule.run_as_users or ())
    groups = ", ".join(map(str, rule.run_as_groups or ()))
    return f"{users}:{groups}" if groups else users


def _asked_as(target: Target) -> str:
    return f"{target.user.name}:{target.group[0]}" if target.group else target.user.name
