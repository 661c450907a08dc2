"""Who holds elevated rights: the table, and the JSON document `holders`."""

import shlex
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from fidelitas.charter import Sanction, Sanctions
from fidelitas.reports.documents import holding_document
from fidelitas.reports.holder_groups import answer_lines, grouped_tables, password_words
from fidelitas.reports.holder_matrix import matrix_table
from fidelitas.reports.object_holders import object_answer, object_tables, privileges_told
from fidelitas.reports.provenance import UNTOLD, Provenance, since_in_brief
from fidelitas.reports.report import Listed, Part, Report
from fidelitas.reports.sentences import brief, holder
from fidelitas.reports.subjects import words_of
from fidelitas.reports.table import Table
from fidelitas.rights import Holding, Lack, PrincipalKind, Right, RightKind, SubjectRights

__all__ = [
    "Filter",
    "holders_document",
    "holders_report",
    "holders_table",
    "is_right",
    "lacking",
    "right_names",
    "rows_on",
    "selected",
]

Row = tuple[SubjectRights, Holding]


_KIND_NAMES = frozenset(kind.name.lower().replace("_", "-") for kind in RightKind)


class Filter:
    """Which holdings are asked for; ``None`` for all."""

    def __init__(
        self, *, account: str | None = None, right: str | None = None, subject: str | None = None, strength: str | None = None
    ) -> None:
        self.account, self.right, self.subject, self.strength = account, right, subject, strength

    def matches(self, rights: SubjectRights, holding: Holding) -> bool:
        """Return whether a holding of the account that is asked for is."""
        return (
            self.is_wanted(holding.right)
            and (self.subject is None or rights.subject == self.subject)
            and (self.strength is None or str(holding.strength) == self.strength)
        )

    def is_wanted(self, right: Right) -> bool:
        """Return whether a right is asked for."""
        return self.right is None or right.kind.name.lower().replace("_", "-") == self.right or str(right) == self.right

    def candidates(self, rights: SubjectRights) -> Sequence[Holding]:
        """Return holdings among which are all that are asked for; no more are worked out than it takes."""
        if self.account is not None:
            return rights.holdings_of(self.account)
        return rights.own_holdings if self.right is None else rights.own_holdings_with(self.is_wanted)


def selected(hosts: Iterable[SubjectRights], chosen: Filter) -> list[Row]:
    """Return the holdings that are asked for, host by host, the furthest reaching rights first."""
    return [(host, holding) for host in hosts for holding in chosen.candidates(host) if chosen.matches(host, holding)]


def right_names(hosts: Iterable[SubjectRights]) -> frozenset[str]:
    """Return the rights and kinds of rights that can be asked for."""
    return _KIND_NAMES | {str(right) for host in hosts for right in host.own_rights()}


def is_right(name: str, hosts: Iterable[SubjectRights]) -> bool:
    """Return whether there is such a right: a kind, one that someone holds, or one about an account that is known."""
    return name in _KIND_NAMES or name.startswith(("run-as:", "command:", "run as ", "become ")) or name in right_names(hosts)


def holders_report(
    rows: Sequence[Row], provenance: Provenance = UNTOLD, *, each: bool = False, matrix: bool = False, sanctions: Sanctions | None = None
) -> Report:
    """Return who holds what: equal holdings together, or `each` in a row of its own, or accounts against subjects as a `matrix`.

    With `sanctions` also what a charter says of that.
    """
    subjects = dict.fromkeys(host.subject for host, _ in rows)
    about_objects = bool(rows) and all(holding.right.kind is RightKind.DB_OBJECT for _, holding in rows)

    def parts() -> Sequence[Part]:
        if matrix:
            return [matrix_table(rows)]
        if about_objects and not each:
            return object_tables(rows)
        return (
            [holders_table(rows, provenance, sanctions=sanctions)]
            if each
            else grouped_tables(rows, provenance, one_subject=len(subjects) == 1)
        )

    return Report(
        answer=lambda: [*(object_answer(rows) if about_objects else answer_lines(rows)), *_charter_lines(rows, sanctions)],
        onward=lambda: _onward(rows, list(subjects), each=each),
        parts=parts,
        rows=lambda: [holders_table(rows, provenance, whole=True, sanctions=sanctions)],
        document=lambda: holders_document(rows, provenance, sanctions),
    )


def _charter_lines(rows: Sequence[Row], sanctions: Sanctions | None) -> list[str]:
    """Return how much of what is held a charter sanctions."""
    if sanctions is None:
        return []
    counts = Counter(sanctions.judge(holding).sanction for _, holding in rows)
    return [f"charter: {', '.join(f'{counts[one]} {one.value}' for one in Sanction if counts[one]) or 'nothing is held'}"]


def _onward(rows: Sequence[Row], subjects: Sequence[str], *, each: bool) -> list[str]:
    if not rows:
        return []
    host, holding = next(((host, one) for host, one in rows if one.principal.kind is PrincipalKind.ACCOUNT), rows[0])
    name = shlex.quote(str(holding.principal))
    on = f"{host.subject}/{holding.right.on}" if holding.right.on else host.subject
    commands = [f"fidelitas why {name} {shlex.quote(on)}"]
    if len(subjects) > 1:
        commands.append(f"fidelitas holders --on {host.subject}")
    return [" · ".join([*commands, *([] if each else ["every holding in a row: --each"])])]


def holders_table(
    rows: Sequence[Row], provenance: Provenance = UNTOLD, *, whole: bool = False, sanctions: Sanctions | None = None
) -> Table:
    """Return the table of holdings; unless `whole`, bounded commands that one holder has by one rule share a row.

    Where `provenance` tells of any, a column says since when and by whose doing.
    """
    shown = [(row, str(row[1].right)) for row in rows] if whole else _together(rows)
    since = [since_in_brief(holding.routes[0], provenance.get(host.subject)) for (host, holding), _ in shown]
    told = whole or any(since)
    return Table(
        columns=(
            *("subject", "holder", "kind", "right", "how", "password", "strength"),
            *(["since"] if told else []),
            *(["charter"] if sanctions is not None else []),
            "place",
        ),
        rows=tuple(
            (*cells[:-1], *([when] if told else []), *_sanction(holding, sanctions), cells[-1])
            for cells, when, ((_, holding), _) in zip(
                (_row(host, holding, right) for (host, holding), right in shown), since, shown, strict=True
            )
        ),
        may_fold=frozenset({"holder", "kind", "right", "how", "place"}),
        empty="Nobody holds an elevated right, as far as the evidence goes.",
    )


def _sanction(holding: Holding, sanctions: Sanctions | None) -> list[str]:
    return [] if sanctions is None else [sanctions.judge(holding).sanction.value]


def _together(rows: Sequence[Row]) -> list[tuple[Row, str]]:
    """Return the rows that are shown, each with its right in words; what a holder has by one rule, or on one object in one way, is one."""
    groups: dict[object, list[Row]] = {}
    for host, holding in rows:
        groups.setdefault((host.subject, holding.principal, _shared(holding)), []).append((host, holding))
    objects = {holding.right.on for _, holding in rows if holding.right.kind is RightKind.DB_OBJECT}
    return [(those[0], _right_of([holding for _, holding in those], name=len(objects) > 1)) for those in groups.values()]


def _shared(holding: Holding) -> object:
    if holding.right.kind is RightKind.COMMAND:
        return holding.routes[0].place
    if holding.right.kind is RightKind.DB_OBJECT:
        return holding.right.on, brief(holding.routes[0])
    return holding.right


def _right_of(holdings: Sequence[Holding], *, name: bool) -> str:
    """Return in words what a holder has by one rule, or on one object; with its `name` where there are several."""
    first = holdings[0].right
    if first.kind is RightKind.DB_OBJECT:
        shown = privileges_told(tuple(dict.fromkeys(holding.right.detail for holding in holdings)))
        return f"{shown} on {first.on}" if name else shown
    return str(first) + (f" (+{len(holdings) - 1} more)" if len(holdings) > 1 else "")


def rows_on(servers: Sequence[SubjectRights], places: Sequence[tuple[str, str]], chosen: Filter) -> list[Row]:
    """Return the holdings that are asked for on some places, each a subject and ``DATABASE/OBJECT`` or nothing; without any on all."""
    if not places:
        return selected(servers, chosen)
    rows: list[Row] = []
    for subject, path in dict.fromkeys(places):
        here = [server for server in servers if server.subject == subject]
        found = [row for server in here for row in _on(server, path, chosen)] if path else selected(here, chosen)
        rows += [(server, holding) for server, holding in found if chosen.matches(server, holding)]
    return rows


def _on(server: SubjectRights, path: str, chosen: Filter) -> Iterator[Row]:
    """Yield what the account that is asked for may do with an object, or all."""
    meant = server.means(chosen.account) if chosen.account is not None else lambda _: True
    return ((server, holding) for holding in server.on(path) if meant(holding.principal))


def lacking(servers: Sequence[SubjectRights], places: Sequence[tuple[str, str]]) -> Lack | None:
    """Return why the first of some places is not known that is not."""
    asked = ((server, path) for subject, path in places if path for server in servers if server.subject == subject)
    return next((lack for server, path in asked if (lack := server.lacks(path)) is not None), None)


def _row(host: SubjectRights, holding: Holding, right: str) -> tuple[str, ...]:
    first, more = holding.routes[0], len(holding.routes) - 1 + holding.cut
    return (
        host.subject,
        holder(holding.principal),
        words_of(host).kind(host, holding.principal),
        right,
        brief(first) + (f" (+{more})" if more else ""),
        password_words(first),
        str(holding.strength),
        first.place.path + (f":{first.place.line}" if first.place.line else ""),
    )


def holders_document(rows: Sequence[Row], provenance: Provenance = UNTOLD, sanctions: Sanctions | None = None) -> dict[str, Any]:
    """Return the JSON document of holdings; with `sanctions` also what a charter says of each."""
    return {"schema": "fidelitas/holders/1", "holdings": Listed(lambda: (_row_document(row, provenance, sanctions) for row in rows))}


def _row_document(row: Row, provenance: Provenance, sanctions: Sanctions | None) -> dict[str, Any]:
    host, holding = row
    document = holding_document(host, holding, provenance)
    if sanctions is None:
        return document
    judged = sanctions.judge(holding)
    warrant = judged.warrant.number if judged.warrant is not None else None
    return {**document, "charter": {"sanction": judged.sanction.value, "warrant": warrant}}
