"""Two accounts compared: as a table, and as the JSON document `compare`."""

import shlex
from collections.abc import Sequence
from typing import Any

from fidelitas.comparison import Compared
from fidelitas.reports.numbers import counted
from fidelitas.reports.report import Report
from fidelitas.reports.sentences import brief
from fidelitas.reports.table import Table
from fidelitas.rights import Holding

__all__ = ["comparison_document", "comparison_report", "comparison_table"]


def comparison_report(found: Sequence[Compared], first: str, second: str, *, whole: bool) -> Report:
    """Return what one account holds and the other lacks; with `whole` also what both hold."""
    return Report(
        answer=lambda: [_answer(found, first, second)],
        parts=lambda: [comparison_table(found, first, second, whole=whole)],
        onward=lambda: [f"fidelitas why {shlex.quote(first)} · fidelitas why {shlex.quote(second)}"],
        document=lambda: comparison_document(found, first, second),
    )


def _answer(found: Sequence[Compared], first: str, second: str) -> str:
    """Return in how many groups and rights the accounts differ, and who holds more."""
    counts = []
    for name, mine in (
        (first, [one for one in found if one.in_first and not one.in_second]),
        (second, [one for one in found if one.in_second and not one.in_first]),
    ):
        groups, rights = sum(one.what == "group" for one in mine), sum(one.what != "group" for one in mine)
        alone = " and ".join(counted(count, what) for count, what in ((groups, "group"), (rights, "right")) if count)
        counts.append(f"{name} alone has {alone or 'nothing'}")
    both = sum(one.in_first and one.in_second for one in found)
    return f"{'; '.join(counts)}; both have {both} in common"


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
