"""Two accounts compared: as a table, and as the JSON document `compare`."""

from collections.abc import Sequence
from typing import Any

from fidelitas.comparison import Compared
from fidelitas.reports.report import Report, report_of
from fidelitas.reports.sentences import brief
from fidelitas.reports.table import Table
from fidelitas.rights import Holding

__all__ = ["comparison_document", "comparison_report", "comparison_table"]


def comparison_report(found: Sequence[Compared], first: str, second: str, *, whole: bool) -> Report:
    """Return what one account holds and the other lacks; with `whole` also what both hold."""
    return report_of(comparison_table(found, first, second, whole=whole), lambda: comparison_document(found, first, second))


def comparison_table(found: Sequence[Compared], first: str, second: str, *, whole: bool) -> Table:
    """Return one row a group or right: what only one of the two has, unless `whole`."""
    rows = [one for one in found if whole or one.in_first != one.in_second]
    cells = [(_cell(one.first, held=one.in_first), _cell(one.second, held=one.in_second)) for one in rows]
    return Table(
        columns=("subject", "what", "name", first, second),
        rows=tuple((one.subject, one.what, one.name, *both) for one, both in zip(rows, cells, strict=True)),
        may_fold=frozenset({"name", first, second}),
        empty=f"{first} and {second} hold the same, as far as the evidence goes.",
    )


def _cell(holding: Holding | None, *, held: bool) -> str:
    if holding is None:
        return "yes" if held else "-"
    return f"{brief(holding.routes[0])} ({holding.strength})"


def comparison_document(found: Sequence[Compared], first: str, second: str) -> dict[str, Any]:
    """Return the JSON document of a comparison, with what both hold."""
    return {
        "schema": "fidelitas/compare/1",
        "first": first,
        "second": second,
        "compared": [
            {"subject": one.subject, "what": one.what, "name": one.name, "first": one.in_first, "second": one.in_second} for one in found
        ],
    }
