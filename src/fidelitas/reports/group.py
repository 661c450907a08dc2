"""A group's page: on each subject its number, its members, what it confers by itself, and what it holds."""

from collections.abc import Sequence
from typing import Any

from fidelitas.administration import AdminMember, members_of
from fidelitas.facts import Group
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.documents import holding_document
from fidelitas.reports.numbers import counted
from fidelitas.reports.subjects.words import holding_rows
from fidelitas.rights import Holding, HostRights, Principal, PrincipalKind, SubjectRights
from fidelitas.rights.linux.groups import conferred

__all__ = ["group_documents", "group_page"]


def group_page(rights: SubjectRights, name: str) -> list[Block]:
    """Return a block for each group that a name, written ``%name``, can mean; none where the subject does not know it."""
    return [_block(rights, label, "" if label == name else f", as {label}") for label in _meant(rights, name)]


def _meant(rights: SubjectRights, name: str) -> list[str]:
    if not rights.knows(name):
        return []
    return [label for label in rights.meant_by(name) if label.startswith("%")] or [name]


def _block(rights: SubjectRights, name: str, named: str) -> Block:
    members, found = list(members_of(rights, _principal(rights, name))), _facts(rights, name)
    rows = [Row(f"group ID {found.gid} ({found.place.in_file()})")] if found is not None else []
    rows.append(Row(counted(len(members), "member") if members else "no members"))
    rows += [Row(_member(member), indent=6) for member in members]
    verdict = conferred(found, rights.facts.states) if found is not None and isinstance(rights, HostRights) else None
    if verdict is not None:
        rows.append(Row(f"{f'confers {verdict.right}' if verdict.right else 'gives nothing'}: {verdict.reason}"))
    held = [row for holding in _held(rights, name) for row in holding_rows(holding)]
    return Block(f"{rights.subject}{named}", (*rows, *(held or [Row("holds no elevated right")])))


def _member(member: AdminMember) -> str:
    details = ", ".join(part for part in (member.how if member.how != "listed" else "", member.note or "") if part)
    return member.name + (f"  ({details})" if details else "")


def _principal(rights: SubjectRights, name: str) -> Principal:
    return Principal(kind=PrincipalKind.GROUP, name=name.removeprefix("%"), subject=rights.subject)


def _facts(rights: SubjectRights, name: str) -> Group | None:
    groups = rights.population.groups if isinstance(rights, HostRights) else ()
    return next((group for group in groups if f"%{group.name}" == name), None)


def _held(rights: SubjectRights, name: str) -> Sequence[Holding]:
    return [holding for holding in rights.holdings if str(holding.principal) == name]


def group_documents(rights: SubjectRights, name: str) -> list[dict[str, Any]]:
    """Return the pages of the groups that a name can mean as parts of a JSON document; none where the subject does not know it."""
    return [_document(rights, label) for label in _meant(rights, name)]


def _document(rights: SubjectRights, name: str) -> dict[str, Any]:
    found = _facts(rights, name)
    return {
        "subject": rights.subject,
        "group": name,
        "gid": found.gid if found is not None else None,
        "members": [
            {"name": member.name, "how": member.how, "note": member.note} for member in members_of(rights, _principal(rights, name))
        ],
        "holdings": [holding_document(rights, holding) for holding in _held(rights, name)],
    }
