"""The tables of an export: their columns with types, and their rows; docs/formats.md describes each."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

from msgspec import Struct

from fidelitas.findings import Finding
from fidelitas.reports.sentences import brief
from fidelitas.reports.subjects import words_of
from fidelitas.rights import Holding, SubjectRights
from fidelitas.text import Place
from fidelitas.usage import AttributedEvent

__all__ = ["TABLES", "ExportTable", "Value", "fed_by", "tables_of"]

Value = str | int | None


Take = Callable[[tuple[Value, ...]], None]


class ExportTable(Struct, frozen=True):
    """A table: the names of its columns with the types of SQL; `feed` gives its rows, one after another, to what takes them."""

    name: str
    columns: tuple[tuple[str, str], ...]
    feed: Callable[[Take], None]


def fed_by(rows: Iterable[tuple[Value, ...]]) -> Callable[[Take], None]:
    """Return what gives rows that are at hand to what takes them."""

    def feed(take: Take) -> None:
        for row in rows:
            take(row)

    return feed


def _columns(text: str) -> tuple[tuple[str, str], ...]:
    """Return columns that are stated as names, those of numbers with a ``#`` behind."""
    return tuple((name.rstrip("#"), "INTEGER" if name.endswith("#") else "TEXT") for name in text.split())


TABLES: Mapping[str, tuple[tuple[str, str], ...]] = {
    "subjects": _columns("subject platform system taken taken_by# gaps# tags"),
    "accounts": _columns("subject account can_log_in#"),
    "holdings": _columns(
        "holding# subject holder holder_kind right_name right_kind right_detail full# granted# strength how conditions routes#"
    ),
    "links": _columns("holding# route# step# source target kind mechanism strength because quote asks conditions place_subject path line#"),
    "findings": _columns("key check_name severity subject about message why advice path line# quote"),
    "gaps": _columns("subject what why weakens path line#"),
    "events": _columns(
        "time host kind program account as_account group_name terminal folder command reason change count# address persons basis "
        "confidence doubt subject path line#"
    ),
}


def tables_of(
    subjects: Sequence[SubjectRights],
    findings: Sequence[Finding],
    tags: Mapping[str, tuple[str, ...]],
    read_events: Callable[[Callable[[AttributedEvent], None]], None],
) -> Iterator[ExportTable]:
    """Yield every table of an audit; rows are made when they are asked for, and events read then: `read_events` gives them one by one."""
    held = [(number, one, holding) for number, (one, holding) in enumerate(_held(subjects), 1)]
    rows: Mapping[str, Iterable[tuple[Value, ...]]] = {
        "subjects": (_subject(one, tags.get(one.subject, ())) for one in subjects),
        "accounts": ((one.subject, name, _flag(state)) for one in subjects for name, state in one.account_states().items()),
        "holdings": (_holding(number, one, holding) for number, one, holding in held),
        "links": (row for number, _, holding in held for row in _links(number, holding)),
        "findings": map(_finding, findings),
        "gaps": ((one.subject, gap.what, gap.why, gap.weakens, *_at(gap.place)) for one in subjects for gap in one.gaps),
    }
    feeds = {name: fed_by(some) for name, some in rows.items()} | {"events": lambda take: read_events(lambda one: take(_event(one)))}
    return (ExportTable(name, columns, feeds[name]) for name, columns in TABLES.items())


def _held(subjects: Sequence[SubjectRights]) -> Iterator[tuple[SubjectRights, Holding]]:
    return ((one, holding) for one in subjects for holding in one.own_holdings)


def _flag(state: bool | None) -> int | None:
    return None if state is None else int(state)


def _subject(one: SubjectRights, tags: Sequence[str]) -> tuple[Value, ...]:
    system = words_of(one).system(one)
    return one.subject, one.platform, system, one.taken.isoformat(), one.taken_by, len(one.gaps), " ".join(tags)


def _holding(number: int, one: SubjectRights, holding: Holding) -> tuple[Value, ...]:
    principal, right, route = holding.principal, holding.right, holding.routes[0]
    return (
        number, one.subject, str(principal), principal.kind.value, str(right), right.kind.name.lower().replace("_", "-"), right.detail,
        int(right.kind.full), int(holding.granted), str(holding.strength), brief(route), "; ".join(route.conditions), len(holding.routes),
    )  # fmt: skip


def _links(number: int, holding: Holding) -> Iterator[tuple[Value, ...]]:
    for at, route in enumerate(holding.routes, 1):
        for step, link in enumerate(route.links, 1):
            yield (
                number, at, step, str(link.source), str(link.target), link.kind.value, link.mechanism.value, str(link.strength),
                link.because, link.quote, link.asks, "; ".join(link.conditions), link.place.subject, *_at(link.place),
            )  # fmt: skip


def _finding(one: Finding) -> tuple[Value, ...]:
    return one.key, one.check, str(one.severity), one.subject, one.about, one.message, one.why, one.advice, *_at(one.places[0]), one.quote


def _event(record: AttributedEvent) -> tuple[Value, ...]:
    one = record.event
    return (
        one.at.isoformat() if one.at is not None else None, one.host, one.kind.value, one.program, one.account, one.target, one.group,
        one.terminal, one.folder, one.command, one.reason, one.change, one.times, one.address, " ".join(record.persons),
        record.basis.value, record.basis.confidence, one.doubt, one.place.subject, *_at(one.place),
    )  # fmt: skip


def _at(place: Place) -> tuple[str, int | None]:
    return place.path, place.line
