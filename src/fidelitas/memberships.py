"""Memberships changed as if: an account added to a group, taken out, or given the memberships of another.

Pure; the facts of a host in, the facts as they would be out.  Whether that is wise is told by `rehearsal`.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from fidelitas.facts import Group, HostFacts

__all__ = ["MembershipChange", "Memberships", "changes_like", "with_memberships"]


@dataclass(frozen=True, slots=True, kw_only=True)
class MembershipChange:
    """An account that is put into a group, or taken out of it."""

    account: str
    group: str
    added: bool

    def __str__(self) -> str:
        return f"{self.account} {'into' if self.added else 'out of'} {self.group}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Memberships:
    """What is to be done with the memberships of some accounts: into groups, out of groups, or as those of the account `like`."""

    accounts: tuple[str, ...]
    into: tuple[str, ...] = ()
    out_of: tuple[str, ...] = ()
    like: str | None = None

    def __bool__(self) -> bool:
        return bool(self.into or self.out_of or self.like)

    def changes(self, facts: HostFacts) -> list[MembershipChange]:
        """Return what that means on a host."""
        stated = [(group, True) for group in self.into] + [(group, False) for group in self.out_of]
        changes = [MembershipChange(account=name, group=group, added=added) for name in self.accounts for group, added in stated]
        return changes + (changes_like(facts, self.like, self.accounts) if self.like else [])

    def unknown(self, hosts: Sequence[HostFacts]) -> list[str]:
        """Return the accounts and groups that are on none of the hosts, in words."""
        accounts = {account.name for host in hosts for account in host.accounts}
        groups = {group.name for host in hosts for group in host.groups}
        named = (*self.accounts, *((self.like,) if self.like else ()))
        missing = [f'account "{name}"' for name in named if name not in accounts]
        return missing + [f'group "{name}"' for name in (*self.into, *self.out_of) if name not in groups]


def changes_like(facts: HostFacts, source: str, targets: Sequence[str]) -> list[MembershipChange]:
    """Return the changes that give each target the memberships of `source`: those of the group file; a primary group is everybody's own."""
    return [
        MembershipChange(account=target, group=group.name, added=True)
        for target in targets
        for group in facts.groups
        if source in group.members and target not in group.members
    ]


def with_memberships(facts: HostFacts, changes: Iterable[MembershipChange]) -> HostFacts:
    """Return the facts with the changes made; one about a group or an account that the host does not have changes nothing."""
    known = {account.name for account in facts.accounts}
    wanted = [change for change in changes if change.account in known]
    return replace(facts, groups=tuple(_changed(group, wanted) for group in facts.groups))


def _changed(group: Group, changes: Sequence[MembershipChange]) -> Group:
    members = list(group.members)
    for change in changes:
        if change.group != group.name:
            continue
        if change.added and change.account not in members:
            members.append(change.account)
        elif not change.added:
            members = [name for name in members if name != change.account]
    return replace(group, members=tuple(members))
