"""The groups of a Linux host's own group file; its accounts are those of its passwd file and of the directory that it asks."""

import shlex
from collections.abc import Sequence

from msgspec.structs import replace

from fidelitas.facts import Group, HostFacts
from fidelitas.memberships.edits import MembershipEdit, Named
from fidelitas.rights import HostRights

__all__ = ["HostGroupTable", "member_command", "with_edits"]


class HostGroupTable:
    """The groups that the group file lists the members of."""

    many_of_a_name = False

    def __init__(self, rights: HostRights) -> None:
        self._groups, self._known = rights.facts.groups, rights.population.by_name

    def accounts(self, name: str) -> Sequence[Named]:
        """Return the account of a name."""
        return [Named(name, name)] if name in self._known else []

    def groups(self, name: str) -> Sequence[Named]:
        """Return the group of a name, which may be written ``%name``."""
        short = name.removeprefix("%")
        return [Named(short, short)] if any(group.name == short for group in self._groups) else []

    def groups_of(self, account: Named) -> Sequence[Named]:
        """Return the groups that list an account; a primary group lists none of its accounts."""
        return [Named(group.name, group.name) for group in self._groups if account.key in group.members]

    def command(self, account: Named, group: Named, *, added: bool) -> str:
        """Return the call of gpasswd(1)."""
        return member_command(account.key, group.key, added=added)


def member_command(account: str, group: str, *, added: bool) -> str:
    """Return the call of gpasswd(1) that changes a member; neither name is taken for an option."""
    return f"gpasswd {'--add' if added else '--delete'}={shlex.quote(account)} -- {shlex.quote(group)}"


def with_edits(facts: HostFacts, edits: Sequence[MembershipEdit]) -> HostFacts:
    """Return the facts of a host with memberships changed."""
    return replace(facts, groups=tuple(_changed(group, edits) for group in facts.groups))


def _changed(group: Group, edits: Sequence[MembershipEdit]) -> Group:
    members = list(group.members)
    for edit in edits:
        if edit.group.key == group.name:
            members = [name for name in members if name != edit.account.key] + ([edit.account.key] if edit.added else [])
    return replace(group, members=tuple(members))
