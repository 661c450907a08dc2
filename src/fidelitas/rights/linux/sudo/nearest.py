"""What came nearest to allowing a command that is not allowed, and what differs.

For people who were refused: the rules that are about them, ordered by how far each of them fits, with the first difference.  Whom a rule is
about, its target, its hosts and its times are decided by the same functions that decide the question itself.
"""

from collections.abc import Iterator
from datetime import datetime
from difflib import SequenceMatcher
from enum import StrEnum

from msgspec import Struct

from fidelitas.facts import Member, MemberKind, SudoRule
from fidelitas.rights.linux.sudo.commands import ResolvedCommand, arguments_match
from fidelitas.rights.linux.sudo.grants import Leaf, leaves
from fidelitas.rights.linux.sudo.matching import Policy
from fidelitas.rights.linux.sudo.run_as import Target, run_as_matches

__all__ = ["Difference", "Near", "groups_that_may", "nearest"]


class Difference(StrEnum):
    """By what a rule does not match."""

    COMMAND = "command"
    PATH = "path"
    ARGUMENTS = "arguments"
    RUN_AS = "run-as"
    HOST = "host"
    TIME = "time"


class Near(Struct, frozen=True):
    """A rule that nearly matches: the command of it, what differs, and how much of it matches.

    `allowed` is what the rule states of it and `asked` what was asked; ``None`` where there is nothing to state, as with any argument.
    """

    rule: SudoRule
    leaf: Leaf
    difference: Difference
    allowed: str | None
    asked: str | None
    closeness: int


def nearest(policy: Policy, target: Target, resolved: ResolvedCommand, now: datetime, most: int = 3) -> list[Near]:
    """Return the rules that came nearest, the nearest first, one command of each."""
    found = []
    for rule in reversed(policy.facts.rules):
        near = max(_differences(policy, rule, target, resolved, now), key=_rank, default=None)
        if near is not None and near.closeness > 0:
            found.append(near)
    return sorted(found, key=_rank, reverse=True)[:most]


def groups_that_may(policy: Policy, target: Target, resolved: ResolvedCommand, now: datetime) -> list[tuple[str, SudoRule]]:
    """Return the groups that a rule allows this very command, not any, each with the last such rule."""
    found: dict[str, SudoRule] = {}
    for rule in reversed(policy.facts.rules):
        groups = [member.value.removeprefix("%") for member in rule.users if member.kind is MemberKind.GROUP and not member.negated]
        allows = bool(groups) and any(
            leaf.allowed and leaf.command.path != "ALL" and _difference(policy, rule, leaf, target, resolved, now) is None
            for leaf in leaves(policy, rule.command)
        )
        for group in groups if allows else ():
            found.setdefault(group, rule)
    return list(found.items())


def _rank(near: Near) -> tuple[int, float]:
    """Return how near a rule comes: by what matches, then by how alike the arguments are, which few rules are compared by."""
    if near.difference is not Difference.ARGUMENTS:
        return near.closeness, 0.0
    return near.closeness, SequenceMatcher(None, near.allowed or "", near.asked or "", autojunk=False).ratio()


def _differences(policy: Policy, rule: SudoRule, target: Target, resolved: ResolvedCommand, now: datetime) -> Iterator[Near]:
    user = policy.users(rule.users, target.who)
    if user is None or not user.allowed:
        return
    for leaf in leaves(policy, rule.command):
        near = _difference(policy, rule, leaf, target, resolved, now) if leaf.allowed else None
        if near is not None:
            yield near


def _difference(policy: Policy, rule: SudoRule, leaf: Leaf, target: Target, resolved: ResolvedCommand, now: datetime) -> Near | None:
    """Return the most telling difference, with a count of what matches: the command first, then arguments, run-as, host and time."""
    host, stated = policy.hosts(rule.hosts), leaf.command
    same_host = host is not None and host.allowed
    same_target = run_as_matches(policy, rule.run_as_users, rule.run_as_groups, target) is True
    in_time = rule.options.in_time(now)
    same_name = stated.path in ("ALL", resolved.path) or stated.path.rpartition("/")[2] == resolved.name
    same_arguments = stated.path == "ALL" or arguments_match(stated, resolved)
    closeness = 2 * same_name + (same_name and same_arguments) + same_target + same_host + in_time
    if not same_name:
        return Near(rule, leaf, Difference.COMMAND, str(stated), None, closeness - 2 if closeness > 2 else closeness)
    if stated.path not in ("ALL", resolved.path):
        return Near(rule, leaf, Difference.PATH, stated.path, resolved.path, closeness)
    if not same_arguments:
        return Near(rule, leaf, Difference.ARGUMENTS, stated.arguments or None, resolved.arguments, closeness)
    if not same_target:
        return Near(rule, leaf, Difference.RUN_AS, _run_as(rule, target), _asked_as(target), closeness)
    if not same_host:
        return Near(rule, leaf, Difference.HOST, ", ".join(map(str, rule.hosts)), policy.host.full, closeness)
    return None if in_time else Near(rule, leaf, Difference.TIME, None, None, closeness)


def _run_as(rule: SudoRule, target: Target) -> str:
    if rule.run_as_users is None and rule.run_as_groups is None:
        return target.default
    users = ", ".join(map(_shown, rule.run_as_users or ()))
    groups = ", ".join(map(str, rule.run_as_groups or ()))
    return f"{users}:{groups}" if groups else users


def _shown(member: Member) -> str:
    return str(member) or "oneself"


def _asked_as(target: Target) -> str:
    return f"{target.user.name}:{target.group[0]}" if target.group else target.user.name
