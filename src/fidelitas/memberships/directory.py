"""The groups of a directory, by DN: by the group's own list, by its list of names, by what members say of themselves."""

import shlex
from base64 import b64encode
from collections.abc import Mapping, Sequence
from functools import cached_property

from msgspec.structs import replace

from fidelitas.distinguished_names import folded
from fidelitas.facts import DirectoryAccount, DirectoryFacts, Place, StatedGroup
from fidelitas.memberships.edits import MembershipEdit, Named
from fidelitas.rights import DirectoryRights

__all__ = ["DirectoryGroupTable", "change_record", "in_shell", "is_primary_group", "member_change", "with_edits"]

Thing = DirectoryAccount | StatedGroup


class DirectoryGroupTable:
    """The groups that give their members something; accounts and groups have all names that `--account` takes."""

    many_of_a_name = False

    def __init__(self, rights: DirectoryRights) -> None:
        self._rights = rights
        every: Sequence[Thing] = (*rights.facts.accounts, *rights.groups)
        self._things: Mapping[str, Thing] = {str(rights.node(one)): one for one in every}

    def accounts(self, name: str) -> Sequence[Named]:
        """Return which accounts a name can mean, or which groups one that begins with ``%``."""
        return [self._called(self._things[label]) for label in self._rights.meant_by(name) if label in self._things]

    def groups(self, name: str) -> Sequence[Named]:
        """Return which groups a name can mean, with or without a ``%`` before it."""
        return self.accounts(f"%{name.removeprefix('%')}")

    def _called(self, one: Thing) -> Named:
        return Named(folded(one.dn), self._rights.node(one).name)

    @cached_property
    def _above(self) -> Mapping[str, Sequence[Named]]:
        found: dict[str, list[Named]] = {}
        for group in self._rights.groups:
            for member, _ in self._rights.members(group):
                found.setdefault(folded(member.dn), []).append(self._called(group))
        return found

    def groups_of(self, account: Named) -> Sequence[Named]:
        """Return the groups that an account is in itself, a primary group among them."""
        return self._above.get(account.key, ())

    @cached_property
    def _by_dn(self) -> Mapping[str, Thing]:
        return {folded(one.dn): one for one in self._things.values()}

    def command(self, account: Named, group: Named, *, added: bool) -> str:
        """Return the change as LDIF (RFC 2849), which ldapmodify and the servers' own tools take."""
        return member_change(self._by_dn[group.key], self._by_dn[account.key], added=added)


def member_change(group: Thing, who: Thing, *, added: bool) -> str:
    """Return the LDIF that puts an object into a group, or takes it out."""
    if not added and is_primary_group(group, who):
        return "# the primary group: give the account another one first (primaryGroupID)"
    by_name = isinstance(group, StatedGroup) and _lists_names(group)
    attribute = "memberUid" if by_name else group.member_attribute if isinstance(group, StatedGroup) else "member"
    return change_record(group.dn, "add" if added else "delete", (attribute, _posix_name(who) if by_name else who.dn))


def change_record(dn: str, verb: str, *values: tuple[str, str]) -> str:
    """Return a change record of LDIF (RFC 2849): values of attributes to be added, deleted or replaced."""
    changes = [line for name, value in values for line in (f"{verb}: {name}", _line(name, value), "-")]
    return "\n".join([_line("dn", dn), "changetype: modify", *changes])


def in_shell(record: str) -> str:
    """Return one command of a shell that hands a change record to ldapmodify(1); a comment stays one."""
    return record if record.startswith("#") else f"printf '%s\\n' {' '.join(map(shlex.quote, record.split(chr(10))))} | ldapmodify"


def _lists_names(group: StatedGroup) -> bool:
    """Return whether a group lists its members by their names, as a posixGroup of RFC 2307 does."""
    return not group.members and (bool(group.member_names) or (group.gid is not None and group.sid is None))


def is_primary_group(group: Thing, who: Thing) -> bool:
    """Return whether a group is the primary one of an account, by SID."""
    rid = who.primary_rid if isinstance(who, DirectoryAccount) else None
    return rid is not None and who.sid is not None and group.sid == f"{who.sid.rpartition('-')[0]}-{rid}"


def _posix_name(who: Thing) -> str:
    return who.posix.name if isinstance(who, DirectoryAccount) and who.posix is not None else who.name


def _line(name: str, value: str) -> str:
    """Return an attribute as a line of LDIF; a value that is not a SAFE-STRING as base64."""
    safe = value.isascii() and value.isprintable() and value[:1] not in (" ", ":", "<") and not value.endswith(" ")
    return f"{name}: {value}" if safe else f"{name}:: {b64encode(value.encode(errors='surrogateescape')).decode()}"


def with_edits(facts: DirectoryFacts, edits: Sequence[MembershipEdit]) -> DirectoryFacts:
    """Return the facts of a directory with memberships changed; a primary group stays, since no list of members makes it."""
    stated = {folded(group.dn) for group in facts.groups}
    every: Sequence[Thing] = (*facts.accounts, *facts.groups)
    dns = {folded(one.dn): one.dn for one in every}
    names = {folded(account.dn): _posix_name(account) for account in facts.accounts}
    own = [_OwnList(edit, dns[edit.account.key], names.get(edit.account.key)) for edit in edits]
    # What no object lists is changed where the member says it of itself.
    said = [edit for edit in edits if not edit.added or edit.group.key not in stated]
    return replace(
        facts,
        accounts=tuple(replace(one, member_of=_said(one, said)) for one in facts.accounts),
        groups=tuple(_listed(replace(group, member_of=_said(group, said)), own) for group in facts.groups),
    )


class _OwnList:
    """An edit of a group's own list, with the DN and the name by which it lists the account."""

    def __init__(self, edit: MembershipEdit, dn: str, name: str | None) -> None:
        self.edit, self.dn, self.name = edit, dn, name


def _listed(group: StatedGroup, changes: Sequence[_OwnList]) -> StatedGroup:
    for one in changes:
        if one.edit.group.key != folded(group.dn):
            continue
        by_name = _lists_names(group) and one.name is not None
        members = [(dn, place) for dn, place in group.members if folded(dn) != one.edit.account.key]
        names = [(name, place) for name, place in group.member_names if name != one.name]
        if one.edit.added:
            names += [(one.name, group.place)] if by_name and one.name is not None else []
            members += [] if by_name else [(one.dn, group.place)]
        group = replace(group, members=tuple(members), member_names=tuple(names))
    return group


def _said(one: Thing, edits: Sequence[MembershipEdit]) -> tuple[tuple[str, Place], ...]:
    """Return of which groups an object says that it is in them."""
    mine = [edit for edit in edits if edit.account.key == folded(one.dn)]
    gone = {edit.group.key for edit in mine if not edit.added}
    kept = tuple((dn, place) for dn, place in one.member_of if folded(dn) not in gone)
    return (*kept, *((edit.group.key, one.place) for edit in mine if edit.added))
