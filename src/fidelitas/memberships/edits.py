"""What is wanted of memberships, and what that comes to on each subject that has the accounts and the groups."""

from collections.abc import Iterator, Mapping, Sequence
from itertools import chain
from typing import NamedTuple, Protocol

from msgspec import Struct

__all__ = ["Absent", "AmbiguousNameError", "Edits", "GroupTable", "MembershipEdit", "Memberships", "Named", "Plan", "planned"]


class Named(NamedTuple):
    """An account or a group of one subject: what identifies it there (a name, a DN, a SID), and what it is called."""

    key: str
    label: str


class AmbiguousNameError(ValueError):
    """A name that can mean several accounts or groups of one subject; `names` identify each."""

    def __init__(self, what: str, name: str, subject: str, names: Sequence[str]) -> None:
        super().__init__(f'{what} "{name}" can be {len(names)} of {subject}')
        self.names = tuple(names)


class GroupTable(Protocol):
    """The groups of one subject, with those who are in them."""

    many_of_a_name: bool  # whether one name stands for several accounts, which are all meant

    def accounts(self, name: str, /) -> Sequence[Named]:
        """Return which accounts a name can mean."""

    def groups(self, name: str, /) -> Sequence[Named]:
        """Return which groups a name can mean."""

    def groups_of(self, account: Named, /) -> Sequence[Named]:
        """Return the groups that list an account itself."""

    def command(self, account: Named, group: Named, /, *, added: bool) -> str:
        """Return the command that makes the change, to be run by an administrator; a standard one of the platform."""


class Memberships(Struct, frozen=True, kw_only=True):
    """What is to be done with the memberships of some accounts: into groups, out of groups, or as those of the account `like`."""

    accounts: tuple[str, ...]
    into: tuple[str, ...] = ()
    out_of: tuple[str, ...] = ()
    like: str | None = None

    def __bool__(self) -> bool:
        return bool(self.into or self.out_of or self.like)


class MembershipEdit(Struct, frozen=True, kw_only=True):
    """An account that is put into a group of one subject, or taken out of it; `already` where it is so without."""

    subject: str
    account: Named
    group: Named
    added: bool
    already: bool
    command: str


Edits = Mapping[str, Sequence[MembershipEdit]]


class Absent(NamedTuple):
    """An account that a subject does not have, and the groups that it has and that the account therefore does not get there."""

    subject: str
    account: str
    groups: tuple[str, ...]


class Plan(NamedTuple):
    """The edits of each subject, the names that no subject knows, in words, and the accounts that some subjects do not have."""

    edits: Edits
    unknown: Sequence[str]
    absent: Sequence[Absent]


def planned(wanted: Memberships, tables: Mapping[str, GroupTable], asked: str | None) -> Plan:
    """Return the edits that are wanted on the subjects of some tables."""
    chosen = {name: table for name, table in tables.items() if asked is None or name == asked}
    found: dict[str, list[MembershipEdit]] = {}
    absent: list[Absent] = []
    copied = (_copied(wanted.like, wanted.accounts, subject, table) for subject, table in chosen.items() if wanted.like is not None)
    for one in (*_named(wanted, chosen, tables), *chain.from_iterable(copied)):
        if isinstance(one, Absent):
            absent.append(one)
        else:
            found.setdefault(one.subject, []).append(one)
    edits = {name: tuple(dict.fromkeys(some)) for name, some in found.items()}
    return Plan(edits, tuple(_unknown(wanted, chosen, tables)), tuple(dict.fromkeys(absent)))


def _named(wanted: Memberships, chosen: Mapping[str, GroupTable], tables: Mapping[str, GroupTable]) -> Iterator[MembershipEdit | Absent]:
    """Yield the edits of groups that are named: of the chosen subjects, or of others where none of them has a group of that name."""
    for group, added in [(name, True) for name in wanted.into] + [(name, False) for name in wanted.out_of]:
        having = {name: table for name, table in chosen.items() if table.groups(group)} or tables
        for subject, table in having.items():
            for account in wanted.accounts:
                yield from _edits(account, group, subject, table, added=added)


def _edits(account: str, group: str, subject: str, table: GroupTable, *, added: bool) -> Iterator[MembershipEdit | Absent]:
    accounts, groups = table.accounts(account), table.groups(group)
    if not groups:
        return
    into = _one("group", group, subject, groups)
    if not accounts and added:
        yield Absent(subject, account, (into.label,))
    for who in _meant(account, subject, table):
        inside = into in table.groups_of(who)
        yield _edit(subject, table, who, into, added=added, already=inside is added)


def _copied(source: str, targets: Sequence[str], subject: str, table: GroupTable) -> Iterator[MembershipEdit | Absent]:
    """Yield the edits that give each target the groups that list the account `source`."""
    groups = list(dict.fromkeys(group for who in _meant(source, subject, table) for group in table.groups_of(who)))
    for target in targets if groups else ():
        found = _meant(target, subject, table)
        if not found:
            yield Absent(subject, target, tuple(group.label for group in groups))
        for who in found:
            mine = set(table.groups_of(who))
            for group in groups:
                if group.key != who.key:
                    yield _edit(subject, table, who, group, added=True, already=group in mine)


def _edit(subject: str, table: GroupTable, who: Named, group: Named, *, added: bool, already: bool) -> MembershipEdit:
    command = table.command(who, group, added=added)
    return MembershipEdit(subject=subject, account=who, group=group, added=added, already=already, command=command)


def _meant(name: str, subject: str, table: GroupTable) -> Sequence[Named]:
    """Return the accounts that are meant by a name: one, where not several of a name are one person's."""
    found = table.accounts(name)
    return found if table.many_of_a_name or not found else [_one("account", name, subject, found)]


def _one(what: str, name: str, subject: str, found: Sequence[Named]) -> Named:
    if len(found) > 1:
        raise AmbiguousNameError(what, name, subject, [one.label for one in found])
    return found[0]


def _unknown(wanted: Memberships, chosen: Mapping[str, GroupTable], tables: Mapping[str, GroupTable]) -> Iterator[str]:
    """Yield the accounts and groups that no subject has, and the pairs that no subject has both of."""
    named = (*wanted.accounts, *((wanted.like,) if wanted.like else ()))
    missing = [f'account "{name}"' for name in named if not any(table.accounts(name) for table in tables.values())]
    groups = (*wanted.into, *wanted.out_of)
    missing += [f'group "{name}"' for name in groups if not any(table.groups(name) for table in tables.values())]
    yield from missing
    if missing:
        return
    for group in groups:
        having = [table for table in chosen.values() if table.groups(group)] or list(tables.values())
        for account in wanted.accounts:
            if not any(table.groups(group) and table.accounts(account) for table in having):
                yield f'subject that has both account "{account}" and group "{group}"'
