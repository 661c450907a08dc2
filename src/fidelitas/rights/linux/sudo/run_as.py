"""Whether a rule's run-as lists cover the account and group that are asked for (sudoers(5), Runas_Spec).

Follows sudo's runaslist_matches step by step: how users and groups play together, and what an alias within a list amounts to, is not
what one would guess from the manual.
"""

from collections.abc import Callable, Sequence

from msgspec import Struct

from fidelitas.facts import AliasKind, Member, MemberKind
from fidelitas.rights.linux.population import Identity
from fidelitas.rights.linux.sudo.matching import Policy

__all__ = ["Target", "run_as_matches"]

Members = Sequence[Member]

# As for other lists: Python's own stack ends at some 900 nested lists, and no policy is nested by hundreds.
_MOST_ALIASES = 200


class Target(Struct, frozen=True):
    """Who asks, and which account and group to run as; `user_given` says whether the account was named, `default` who it is else."""

    who: Identity
    user: Identity
    group: tuple[str, int] | None
    user_given: bool
    default: str = "root"


def run_as_matches(
    policy: Policy, users: Members | None, groups: Members | None, target: Target, met: set[tuple[str, bool]] | None = None
) -> bool | None:
    """Return what two run-as lists say of a target: yes, no, or nothing.  A missing list is ``None``, which an empty one is not."""
    met = set() if met is None else met  # aliases that were followed: such a one has said nothing, and will say nothing again
    user: bool | None = None
    group: bool | None = None
    if target.user_given or target.group is None:
        if users is None and groups is None:
            return policy.is_account(target.default, target.user)
        user = _first(policy, users or (), target, met, lambda member: _is_target(policy, member, target), of_users=True)
    if target.group is not None:
        name, gid = target.group
        if user is None and target.who.name == target.user.name:
            user = True  # only the group is to change
        if groups is not None:
            group = _first(policy, groups, target, met, lambda member: _is_group(policy, member, name, gid), of_users=False)
        if group is None and gid in target.user.gids:
            group = True
    if user is False or group is False:
        return False
    return user if user == group or target.group is None else None


def _first(
    policy: Policy, members: Members, target: Target, met: set[tuple[str, bool]], answer: Callable[[Member], bool], *, of_users: bool
) -> bool | None:
    """Return what the last member that says anything says."""
    for member in reversed(members):
        alias = policy.aliases.get((AliasKind.RUNAS, member.value)) if member.kind is MemberKind.WORD else None
        if alias is None:
            if answer(member):
                return not member.negated
        elif (alias.name, of_users) not in met and len(met) < _MOST_ALIASES:
            met.add((alias.name, of_users))
            users, groups = (alias.members, ()) if of_users else ((), alias.members)
            said = run_as_matches(policy, users, groups, target, met)
            if said is not None:
                return said != member.negated
    return None


def _is_target(policy: Policy, member: Member, target: Target) -> bool:
    if member.kind is MemberKind.MYSELF:
        return not target.user_given or target.who.name == target.user.name
    return policy.is_user(member, target.user) is True


def _is_group(policy: Policy, member: Member, name: str, gid: int) -> bool:
    return member.kind is MemberKind.ALL or policy.is_group(member.value, name, gid)
