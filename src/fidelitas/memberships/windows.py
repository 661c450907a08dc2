"""The local groups of a Windows machine; its accounts are its own and those of the directories in evidence."""

import re
from collections.abc import Mapping, Sequence
from functools import cached_property

from msgspec.structs import replace

from fidelitas.facts import LocalGroup, LocalMember, WindowsFacts
from fidelitas.memberships.edits import MembershipEdit, Named
from fidelitas.rights import Principal, WindowsRights

__all__ = ["LocalGroupTable", "member_command", "quoted", "with_edits"]

_SID = re.compile(r"S-[0-9-]+")


class LocalGroupTable:
    """The groups of a machine; of a domain controller none, whose groups are the domain's."""

    many_of_a_name = False

    def __init__(self, rights: WindowsRights) -> None:
        self._holders, self._facts = rights.holders, rights.facts
        controller = any(rights.facts.sid in directory.domain_sids for directory in rights.holders.directories)
        self._groups = () if controller else rights.facts.groups

    @cached_property
    def _by_name(self) -> Mapping[str, Sequence[Named]]:
        """The accounts of the machine and of directories that have a SID, by all their names, in small letters."""
        found: dict[str, dict[Named, None]] = {}
        for account in self._facts.accounts:
            self._add(found, account.sid, self._holders.local(account), account.name)
        for directory in self._holders.directories:
            for sid, principal in directory.by_sid.items():
                self._add(found, sid, principal, principal.name)
        return {name: tuple(some) for name, some in found.items()}

    @staticmethod
    def _add(found: dict[str, dict[Named, None]], sid: str, principal: Principal, name: str) -> None:
        label = next(
            (form for form in (name, principal.name, *principal.aliases) if "\\" in form and not form.startswith(".")), name
        ).removeprefix("%")
        sign = "%" if str(principal).startswith("%") else ""
        for form in (str(principal), f"{sign}{name}", *principal.aliases):
            found.setdefault(form.lower(), {})[Named(sid, label)] = None

    def accounts(self, name: str) -> Sequence[Named]:
        """Return which accounts a name can mean, or which groups of a domain one that begins with ``%``."""
        return self._by_name.get(name.lower(), ())

    def groups(self, name: str) -> Sequence[Named]:
        """Return the group of a name or a SID; the case of letters does not matter."""
        short = name.removeprefix("%").lower()
        return [_called(group) for group in self._groups if short in (group.name.lower(), (group.sid or "").lower())]

    def groups_of(self, account: Named) -> Sequence[Named]:
        """Return the local groups that list an account."""
        return [_called(group) for group in self._groups if any(_is(member, account) for member in group.members)]

    def command(self, account: Named, group: Named, *, added: bool) -> str:
        """Return the call of PowerShell."""
        return member_command(account, group, added=added)


def member_command(account: Named, group: Named, *, added: bool) -> str:
    """Return the call of PowerShell that changes a member, by SID where it is known: names are translated."""
    which, who = (f"-SID {group.key}" if _SID.fullmatch(group.key) else f"-Name {quoted(group.key)}"), account.key
    who = who if _SID.fullmatch(who) else quoted(account.label)
    comment = f"  # {account.label}" if account.label.isprintable() and account.key != account.label else ""
    return f"{'Add' if added else 'Remove'}-LocalGroupMember {which} -Member {who}{comment}"


def _called(group: LocalGroup) -> Named:
    return Named(group.sid or group.name, group.name)


def _is(member: LocalMember, account: Named) -> bool:
    return member.sid == account.key if member.sid else (member.name or "").lower() == account.label.lower()


def quoted(text: str) -> str:
    """Return a text of PowerShell in single quotes, which ends at single quotes of any shape (about_Quoting_Rules)."""
    escaped = re.sub("(['\u2018\u2019\u201a\u201b])", r"\1\1", text)
    return f"'{escaped}'"


def with_edits(facts: WindowsFacts, edits: Sequence[MembershipEdit]) -> WindowsFacts:
    """Return the facts of a machine with memberships of its groups changed."""
    return replace(facts, groups=tuple(_changed(group, edits) for group in facts.groups))


def _changed(group: LocalGroup, edits: Sequence[MembershipEdit]) -> LocalGroup:
    members = list(group.members)
    for edit in edits:
        if edit.group == _called(group):
            members = [member for member in members if not _is(member, edit.account)]
            members += [LocalMember(sid=edit.account.key, name=edit.account.label, group=None, place=group.place)] if edit.added else []
    return replace(group, members=tuple(members))
