"""Who administers subjects: groups with members, accounts by themselves, what is not in force; as tables and the JSON document `admins`."""

from collections.abc import Sequence
from typing import Any

from fidelitas.administration import Administration, AdminMember
from fidelitas.reports.numbers import counted
from fidelitas.reports.places import place_document
from fidelitas.reports.report import Part, Report
from fidelitas.reports.sentences import brief, holder
from fidelitas.reports.table import Table
from fidelitas.rights import Holding

__all__ = ["administration_report"]


def administration_report(found: Sequence[Administration]) -> Report:
    """Return who administers each subject, and by which line."""
    return Report(
        answer=lambda: [_answer(one) for one in found[:5]],
        parts=lambda: _parts(found),
        document=lambda: {"schema": "fidelitas/admins/1", "subjects": [_document(one) for one in found]},
        onward=lambda: [f"fidelitas holders --on {found[0].rights.subject} (also what can be obtained by a weakness)"] if found else [],
    )


def _answer(one: Administration) -> str:
    members = {member.name for group in one.groups for member in group.members if member.how not in ("group", "removed")}
    names = members | {str(holding.principal) for holding in one.alone}
    groups = ", ".join(str(group.holding.principal) for group in one.groups)
    return f"{one.rights.subject}: {counted(len(names), 'administrator')}" + (f"; groups {groups}" if groups else "; no group administers")


def _parts(found: Sequence[Administration]) -> list[Part]:
    several = len(found) > 1
    groups = [
        (one, group, member) for one in found for group in one.groups for member in group.members or (AdminMember("(no member)", ""),)
    ]
    alone = [(one, holding) for one in found for holding in one.alone]
    inert = [(one, rule) for one in found for rule in one.inert]
    parts: list[Part] = []
    if groups:
        members: tuple[tuple[str, ...], ...] = tuple(
            (
                one.rights.subject,
                str(group.holding.principal),
                member.name,
                member.how,
                member.note or "",
                _right(group.holding),
                _place(group.holding),
            )
            for one, group, member in groups
        )
        parts += ["By a group\n", _table(("subject", "group", "member", "how", "note", "right", "place"), members, several=several)]
    if alone:
        single: tuple[tuple[str, ...], ...] = tuple(
            (one.rights.subject, holder(held.principal), brief(held.routes[0]), _right(held), _place(held)) for one, held in alone
        )
        parts += [
            "\n" if parts else "",
            "By themselves\n",
            _table(("subject", "administrator", "through", "right", "place"), single, several=several),
        ]
    if inert:
        rules: tuple[tuple[str, ...], ...] = tuple((one.rights.subject, rule.text, rule.place.in_file()) for one, rule in inert)
        parts += ["\n", "Not in force: commented out\n", _table(("subject", "rule", "place"), rules, several=several)]
    return parts or ["Nobody administers it, as far as the evidence goes.\n"]


def _table(columns: tuple[str, ...], rows: tuple[tuple[str, ...], ...], *, several: bool) -> Table:
    cut = 0 if several else 1
    return Table(
        columns=columns[cut:],
        rows=tuple(row[cut:] for row in rows),
        may_fold=frozenset({"note", "through", "rule"}),
        least=("place", "right"),
    )


def _right(holding: Holding) -> str:
    return str(holding.right)


def _place(holding: Holding) -> str:
    return holding.routes[0].place.in_file()


def _document(one: Administration) -> dict[str, Any]:
    return {
        "subject": one.rights.subject,
        "groups": [
            {
                "name": str(group.holding.principal),
                "right": str(group.holding.right),
                "place": place_document(group.holding.routes[0].place),
                "members": [{"name": member.name, "how": member.how, "note": member.note} for member in group.members],
            }
            for group in one.groups
        ],
        "alone": [
            {"name": str(held.principal), "right": str(held.right), "place": place_document(held.routes[0].place)} for held in one.alone
        ],
        "not_in_force": [{"text": rule.text, "place": place_document(rule.place)} for rule in one.inert],
    }
