"""Accounts against subjects: who has full control where, people first, then groups, keys and accounts of other hosts."""

from collections.abc import Sequence

from fidelitas.reports.sentences import holder
from fidelitas.reports.table import Table
from fidelitas.rights import Holding, Principal, PrincipalKind, SubjectRights

__all__ = ["matrix_table"]

Row = tuple[SubjectRights, Holding]
_ORDER = list(PrincipalKind)


def matrix_table(rows: Sequence[Row]) -> Table:
    """Return a row for each holder and a column for each subject: the furthest right there, in brackets where it can only be obtained."""
    subjects = list(dict.fromkeys(host.subject for host, _ in rows))
    cells: dict[tuple[int, str], dict[str, Holding]] = {}
    for host, holding in rows:
        here = cells.setdefault((_ORDER.index(holding.principal.kind), _name(holding.principal)), {})
        before = here.get(host.subject)
        if before is None or _rank(holding) < _rank(before):
            here[host.subject] = holding
    return Table(
        columns=("holder", *subjects),
        rows=tuple((name, *(_cell(here.get(subject)) for subject in subjects)) for (_, name), here in sorted(cells.items())),
        empty="Nobody holds an elevated right, as far as the evidence goes.",
    )


def _name(principal: Principal) -> str:
    return holder(principal)


def _rank(holding: Holding) -> tuple[int, bool]:
    return holding.right.kind, not holding.granted


def _cell(holding: Holding | None) -> str:
    if holding is None:
        return "."
    right = holding.right.kind.name.lower().replace("_", "-")
    return right if holding.granted else f"({right})"
