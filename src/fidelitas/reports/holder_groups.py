"""Who holds what, with equal things together: holders who have a right in the same way in one row, and equal rows of many subjects as one.

What was granted, and what can be obtained by a weakness, are two things to an auditor: they stand apart.
"""

from collections.abc import Iterable, Sequence
from enum import Enum

from msgspec import Struct

from fidelitas.reports.numbers import counted, listed
from fidelitas.reports.provenance import UNTOLD, Provenance, since_in_brief
from fidelitas.reports.report import Part
from fidelitas.reports.sentences import brief, holder
from fidelitas.reports.table import Table
from fidelitas.rights import Holding, LinkKind, PrincipalKind, RightKind, Route, Strength, SubjectRights

__all__ = ["answer_lines", "grouped_tables", "password_words"]

Row = tuple[SubjectRights, Holding]
# So many names are listed in a row; the others are counted, and all are in the JSON and under --each.
_MOST_NAMES = 12
_MOST_SUBJECTS = 3


class _Section(Enum):
    GRANTED = "Granted: full control"
    OBTAINABLE = "Can be obtained by a weakness"
    LIMITED = "Granted: limited rights"


_STYLES = {Strength.DIRECT: "", Strength.CERTAIN: "bold", Strength.CONDITIONAL: "dim"}


class _Way(Struct, frozen=True):
    """How a right is held: what is equal for all holders in a row."""

    section: _Section
    kind: RightKind
    right: str
    through: str
    password: str
    since: str
    condition: str
    place: str
    strength: Strength


def grouped_tables(rows: Sequence[Row], provenance: Provenance = UNTOLD, *, one_subject: bool = False) -> list[Part]:
    """Return a table for each section that has rows, each under its title."""
    groups = _groups(rows, provenance)
    parts: list[Part] = []
    for section in _Section:
        found = [(way, names, subjects) for (way, names), subjects in groups.items() if way.section is section]
        if found:
            parts += ["\n"] if parts else []
            parts += [f"{section.value}\n", _table(found, one_subject=one_subject)]
    return parts or [_table([], one_subject=one_subject)]


def _groups(rows: Sequence[Row], provenance: Provenance) -> dict[tuple[_Way, tuple[str, ...]], list[str]]:
    """Return the subjects on which the same holders have a right in the same way."""
    by_subject: dict[tuple[str, _Way], list[str]] = {}
    shown = _without_means(rows)
    for host, holding in shown:
        for route in _shown_routes(holding):
            since = since_in_brief(route, provenance.get(host.subject))
            by_subject.setdefault((host.subject, _way(holding, route, since)), []).append(holder(holding.principal))
    found: dict[tuple[_Way, tuple[str, ...]], list[str]] = {}
    for (subject, way), names in by_subject.items():
        found.setdefault((way, tuple(dict.fromkeys(names))), []).append(subject)
    return found


def _without_means(rows: Sequence[Row]) -> list[Row]:
    """Return holdings without those of groups by which others, who are listed, have the same right."""
    means = {
        (link.target, holding.right)
        for _, holding in rows
        for route in _shown_routes(holding)
        for link in route.links
        if link.source == holding.principal or link.kind is LinkKind.HAS
    }
    return [
        (host, holding)
        for host, holding in rows
        if holding.principal.kind is not PrincipalKind.GROUP or (holding.principal, holding.right) not in means
    ]


def _way(holding: Holding, first: Route, since: str) -> _Way:
    kind = holding.right.kind
    section = _Section.OBTAINABLE if not holding.granted else _Section.GRANTED if kind.full else _Section.LIMITED
    place = first.place.path + (f":{first.place.line}" if first.place.line else "")
    return _Way(
        section, kind, str(holding.right), brief(first), password_words(first), since, "; ".join(first.conditions), place, first.strength
    )


def _shown_routes(holding: Holding) -> list[Route]:
    """Return the routes that are shown: the strongest that was granted, or where none was, one for each weakness: each is to be mended."""
    granted = [route for route in holding.routes if route.granted]
    if holding.granted:
        return granted[:1]
    weak = [route for route in holding.routes if not route.granted]
    return list({route.place: route for route in reversed(weak)}.values())[::-1]


def _table(found: Iterable[tuple[_Way, tuple[str, ...], list[str]]], *, one_subject: bool) -> Table:
    ordered = sorted(found, key=lambda one: (one[0].kind, one[2] if len(one[2]) <= _MOST_SUBJECTS else [], one[0].right, one[1]))
    commands = _commands_together(ordered)
    return Table(
        columns=(*(() if one_subject else ("subject",)), "holders", "right", "through", "password", "since", "condition", "place"),
        rows=tuple(
            (
                *(() if one_subject else (listed(subjects, _MOST_SUBJECTS, "subject"),)),
                listed(names, _MOST_NAMES, "more"),
                right,
                way.through,
                way.password,
                way.since,
                way.condition,
                way.place,
            )
            for way, names, subjects, right in commands
        ),
        may_fold=frozenset({"subject", "holders", "right", "through", "condition"}),
        least=("condition", "since", "place", "password"),
        styles=tuple(_STYLES[way.strength] for way, *_ in commands),
        empty="Nobody holds an elevated right, as far as the evidence goes.",
    )


def _commands_together(
    found: Sequence[tuple[_Way, tuple[str, ...], list[str]]],
) -> list[tuple[_Way, tuple[str, ...], list[str], str]]:
    """Return the rows, those of commands that the same holders have by the same rule as one."""
    groups: dict[object, list[tuple[_Way, tuple[str, ...], list[str]]]] = {}
    for way, names, subjects in found:
        same = (way.place, way.through) if way.kind is RightKind.COMMAND else way.right
        groups.setdefault((same, names, tuple(subjects), way.section, way.kind, way.through, way.place), []).append((way, names, subjects))
    return [(*those[0], those[0][0].right + (f" and {len(those) - 1} more" if len(those) > 1 else "")) for those in groups.values()]


def password_words(route: Route) -> str:
    """Return whose password a route asks for: "own", "none", or "-" where nothing is asked on the way."""
    if route.asks:
        return route.asks.replace(" password", "")
    return "-" if all(link.kind is LinkKind.HAS for link in route.links) else "none"


# -- the answer ---------------------------------------------------------------------------------------------------------------------------


def answer_lines(rows: Sequence[Row]) -> list[str]:
    """Return in a line who has full control: how many were granted it, how many can obtain it, and what else leads to it."""
    full = [(host, holding) for host, holding in rows if holding.right.kind.full]
    if not full:
        return []
    granted = {one.principal for _, one in full if one.granted}
    obtained = {one.principal for _, one in full} - granted
    accounts = {PrincipalKind.ACCOUNT, PrincipalKind.ROLE}
    subjects = {host.subject for host, _ in full}
    where = next(iter(subjects)) if len(subjects) == 1 else f"{len(subjects)} subjects"
    told = [
        f"{counted(sum(one.kind in accounts for one in granted), 'account')} with full control",
        f"{sum(one.kind in accounts for one in obtained)} more can obtain it by a weakness",
    ]
    keys = sum(one.kind is PrincipalKind.KEY for one in granted | obtained)
    others = sum(one.kind is PrincipalKind.ELSEWHERE for one in granted | obtained)
    reached = [counted(keys, "key"), counted(others, "account") + (" of another host" if others == 1 else " of other hosts")]
    also = " and ".join(text for text, count in zip(reached, (keys, others), strict=True) if count)
    anyone = [one for _, one in rows if one.principal.kind is PrincipalKind.ANY_ACCOUNT and one.principal in granted | obtained]
    perhaps = " perhaps" if all(one.strength is Strength.CONDITIONAL for one in anyone if one.right.kind.full) else ""
    reach = "reaches" if keys + others == 1 else "reach"
    return [
        f"{where}: {', '.join(told)}" + (f"; {also} {reach} it" if also else ""),
        *([f'Any account of a subject can{perhaps} obtain full control of it: see the rows of "any account".'] if anyone else []),
    ]
