"""Memberships changed as if: an account put into a group, taken out, or given the memberships of another; on every platform.

    what is wanted ─ plan(subjects) ─► edits, each of one subject ─ with_edits(facts) ─► the facts as they would be

Each platform's module knows how its accounts and groups are named, who is in which, and the command that makes the change; none is run.
Pure.  What rights follow is worked out by `rehearsal`.
"""

from collections.abc import Callable, Mapping, Sequence
from typing import Any, TypeVar, cast

from fidelitas.facts import DatabaseFacts, DirectoryFacts, HostFacts, MariadbFacts, WindowsFacts
from fidelitas.memberships import directory, linux, mariadb, postgresql, windows
from fidelitas.memberships.edits import Absent, AmbiguousNameError, Edits, GroupTable, MembershipEdit, Memberships, Plan, planned
from fidelitas.rights import DatabaseRights, DirectoryRights, HostRights, MariadbRights, SubjectRights, WindowsRights

__all__ = ["Absent", "AmbiguousNameError", "Edits", "MembershipEdit", "Memberships", "Plan", "plan", "with_edits"]

F = TypeVar("F")

_TABLES: Mapping[type, Callable[[Any], GroupTable]] = {
    HostRights: linux.HostGroupTable,
    WindowsRights: windows.LocalGroupTable,
    DirectoryRights: directory.DirectoryGroupTable,
    DatabaseRights: postgresql.RoleTable,
    MariadbRights: mariadb.RoleTable,
}
_WITH_EDITS: Mapping[type, Callable[[Any, Sequence[MembershipEdit]], Any]] = {
    HostFacts: linux.with_edits,
    WindowsFacts: windows.with_edits,
    DirectoryFacts: directory.with_edits,
    DatabaseFacts: postgresql.with_edits,
    MariadbFacts: mariadb.with_edits,
}


def plan(wanted: Memberships, subjects: Sequence[SubjectRights], asked: str | None = None) -> Plan:
    """Return what a change of memberships means on each subject; raises `AmbiguousNameError` where a name can mean several accounts.

    With `asked` it is for that subject alone; where this has no such group, for those of directories.
    """
    tables = {one.subject: table for one in subjects if (table := _table(one)) is not None}
    return planned(wanted, tables, asked)


def _table(rights: SubjectRights) -> GroupTable | None:
    kind = next((kind for kind in _TABLES if isinstance(rights, kind)), None)
    return None if kind is None else _TABLES[kind](rights)


def with_edits(facts: F, edits: Sequence[MembershipEdit]) -> F:
    """Return the facts of one subject with memberships changed; the same where there is nothing to change."""
    change = [edit for edit in edits if not edit.already]
    return cast(F, _WITH_EDITS[type(facts)](facts, change)) if change else facts
