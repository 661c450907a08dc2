"""Who may do what with an object of a database: by account, with the way in beside the right; what is had now stands apart."""

from collections.abc import Iterator, Sequence

from msgspec import Struct

from fidelitas.reports.numbers import counted, listed
from fidelitas.reports.report import Part
from fidelitas.reports.sentences import brief, holder
from fidelitas.reports.subjects import words_of
from fidelitas.reports.table import Table
from fidelitas.rights import Holding, LinkKind, PrincipalKind, Route, Strength, SubjectRights

__all__ = ["object_answer", "object_tables", "privileges_told"]

Row = tuple[SubjectRights, Holding]
_TITLES = ("Now", "On asking", "Can be granted to oneself", "Under a condition")
_MOST_NAMES = 8
# The privileges that there are on a table of PostgreSQL, and those of MariaDB that change or read one.
_EVERY = (
    frozenset({"select", "insert", "update", "delete", "truncate", "references", "trigger"}),
    frozenset({"select", "insert", "update", "delete", "create", "drop", "alter", "index", "references", "trigger", "grant-option"}),
)


class _Way(Struct, frozen=True):
    """How what is had on an object is had: equal for all holders in a row."""

    title: int
    on: str
    privileges: tuple[str, ...]
    through: str
    where: str
    condition: str
    place: str


def object_answer(rows: Sequence[Row], account: str = "") -> list[str]:
    """Return the sentence that answers: what an account may do, or how many have something now, and how many can come to it."""
    found: list[str] = []
    if account:
        now = dict.fromkeys(one.right.detail for _, one in rows if _section(one.routes[0]) == 0)
        others = dict.fromkeys(one.right.detail for _, one in rows if one.right.detail not in now)
        return [
            f"{account} now: {privileges_told(tuple(now)) or 'nothing'}"
            + (f"; in other ways: {privileges_told(tuple(others))}" if others else "")
        ]
    for on in dict.fromkeys(holding.right.on or "" for _, holding in rows):
        of = [row for row in rows if row[1].right.on == on]
        everyone = sorted({holding.right.detail for _, holding in of if _is_everyone(holding) and _section(holding.routes[0]) == 0})
        names = [{holding.principal.name for _, holding in of if _section(holding.routes[0]) == title} for title in range(2)]
        verb = "has" if len(names[0] - {""}) == 1 else "have"
        line = f"{on}: {counted(len(names[0] - {''}), 'holder')} {verb} rights on it now"
        more = len(names[1] - names[0])
        line += f", {more} more on asking" if more else ""
        found.append(line + (f"; every role: {', '.join(everyone)}" if everyone else ""))
    return found


def object_tables(rows: Sequence[Row]) -> list[Part]:
    """Return a table for what is had now, one for what a session can come to, and so on."""
    groups = _groups(rows)
    several = len({way.on for way in groups}) > 1
    parts: list[Part] = []
    for title, words in enumerate(_TITLES):
        found = [(way, names) for way, names in groups.items() if way.title == title]
        if found:
            parts += ["\n"] if parts else []
            parts += [f"{words}\n", _table(found, several=several)]
    return parts or [_table([], several=several)]


def _groups(rows: Sequence[Row]) -> dict[_Way, list[str]]:
    public = {holding.right for _, holding in rows if _is_everyone(holding) and holding.strength is Strength.DIRECT}
    by_holder: dict[tuple[str, str, int, str, str, str, str], list[str]] = {}
    for subject, holding in rows:
        if holding.right in public and not _is_everyone(holding):
            continue  # what every role has is told once
        for route in _shown(holding):
            place = route.place.path + (f":{route.place.line}" if route.place.line else "")
            key = (holder(holding.principal), holding.right.on or "", _section(route), brief(route), "; ".join(route.conditions), place)
            by_holder.setdefault((*key, _where(subject, holding)), []).append(holding.right.detail)
    together: dict[tuple[str, str, int, str, str, str], tuple[list[str], list[str]]] = {}
    for (name, on, title, through, condition, place, where), privileges in by_holder.items():
        some, places = together.setdefault((name, on, title, through, condition, where), ([], []))
        some += privileges
        places.append(place)
    found: dict[_Way, list[str]] = {}
    for (name, on, title, through, condition, where), (privileges, places) in together.items():
        shown = places[0] + (f" (+{len(places) - 1})" if len(places) > 1 else "")
        found.setdefault(_Way(title, on, tuple(dict.fromkeys(privileges)), through, where, condition, shown), []).append(name)
    return found


def _is_everyone(holding: Holding) -> bool:
    return holding.principal.kind is PrincipalKind.ANY_ACCOUNT


def _shown(holding: Holding) -> Iterator[Route]:
    """Yield the strongest route, and where that takes asking or is under a condition, the strongest of the other kinds."""
    sections: dict[int, Route] = {}
    for route in holding.routes:
        sections.setdefault(_section(route), route)
    yield from (route for title, route in sections.items() if title == min(sections))


def _section(route: Route) -> int:
    if route.strength is Strength.CONDITIONAL:
        return 3
    return list(LinkKind).index(route.kind)


def _where(subject: SubjectRights, holding: Holding) -> str:
    return words_of(subject).ways_in(subject, holding.principal, (holding.right.on or "").partition("/")[0])


def _table(found: Sequence[tuple[_Way, list[str]]], *, several: bool) -> Table:
    ordered = sorted(found, key=lambda one: (one[0].on, one[0].through, one[1]))
    return Table(
        columns=(*(("object",) if several else ()), "holders", "may", "through", "from where", "condition", "place"),
        rows=tuple(
            (
                *((way.on,) if several else ()),
                listed(names, _MOST_NAMES, "more"),
                privileges_told(way.privileges),
                way.through,
                way.where,
                way.condition,
                way.place,
            )
            for way, names in ordered
        ),
        may_fold=frozenset({"object", "holders", "may", "through", "from where", "condition"}),
        least=("condition", "place"),
        empty="Nobody may do anything with it, as far as the evidence goes.",
    )


def privileges_told(privileges: tuple[str, ...]) -> str:
    """Return privileges in words: all of them, or their names."""
    every = next((one for one in _EVERY if one <= {*privileges}), None)
    return "all privileges" if every is not None else ", ".join(privileges)
