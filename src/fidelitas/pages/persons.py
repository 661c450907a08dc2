"""Each person of the report: what is held, on which systems, and whether the logs show that it is used."""

from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import date
from typing import Protocol

from msgspec import Struct, field

__all__ = ["HeldUsed", "PersonPart", "held_and_used", "persons_of"]

_MOST_BARS = 25
_WIDTH = 220


class _Row(Protocol):
    @property
    def number(self) -> int: ...
    @property
    def subject(self) -> str: ...
    @property
    def holder(self) -> str: ...
    @property
    def person(self) -> str: ...
    @property
    def kind(self) -> str: ...
    @property
    def full(self) -> bool: ...
    @property
    def granted(self) -> bool: ...


class PersonPart(Struct, frozen=True, kw_only=True):
    """One person, or account that is nobody's: the systems of full control, held or to be obtained, others, and the rows of all.

    `used` are the systems on which the logs show a use, `last` is the day of the last; `logged` those of full control that have logs.
    """

    number: int
    name: str
    accounts: tuple[str, ...]
    full: tuple[str, ...]
    obtainable: tuple[str, ...]
    limited: tuple[str, ...]
    rows: tuple[_Row, ...]
    used: tuple[str, ...]
    logged: tuple[str, ...]
    last: date | None


class HeldUsed(Struct, frozen=True):
    """One bar: of how many systems with logs someone has full control, on how many of them it was used, and how long both are drawn."""

    name: str
    held: int
    used: int
    held_length: int
    used_length: int


class _Gathered(Struct):
    accounts: set[str] = field(default_factory=set)
    full: set[str] = field(default_factory=set)
    obtainable: set[str] = field(default_factory=set)
    limited: set[str] = field(default_factory=set)
    rows: list[_Row] = field(default_factory=list)

    def add(self, row: _Row) -> None:
        self.accounts.add(row.holder)
        self.rows.append(row)
        (self.limited if not row.full else self.full if row.granted else self.obtainable).add(row.subject)


def persons_of(rows: Iterable[_Row], last_used: Mapping[tuple[str, str], date], logged: Collection[str]) -> tuple[PersonPart, ...]:
    """Return everyone who holds something, most systems of full control first.

    `last_used` is the day of the last use by system and person, `logged` are the systems whose logs were read.
    """
    gathered: dict[str, _Gathered] = {}
    for row in rows:
        if row.kind in ("account", "role"):
            gathered.setdefault(row.person, _Gathered()).add(row)
    ranked = sorted(gathered.items(), key=lambda one: (-len(one[1].full), -len(one[1].obtainable), -len(one[1].rows), one[0]))
    days: dict[str, dict[str, date]] = {}
    for (subject, person), day in last_used.items():
        days.setdefault(person, {})[subject] = day
    return tuple(_person(number, name, one, days.get(name, {}), logged) for number, (name, one) in enumerate(ranked, 1))


def _person(number: int, name: str, one: _Gathered, days: Mapping[str, date], logged: Collection[str]) -> PersonPart:
    return PersonPart(
        number=number,
        name=name,
        accounts=tuple(sorted(one.accounts)),
        full=tuple(sorted(one.full)),
        obtainable=tuple(sorted(one.obtainable - one.full)),
        limited=tuple(sorted(one.limited - one.full - one.obtainable)),
        rows=tuple(one.rows),
        used=tuple(sorted(days)),
        logged=tuple(sorted(one.full & set(logged))),
        last=max(days.values(), default=None),
    )


def held_and_used(people: Sequence[PersonPart]) -> tuple[HeldUsed, ...]:
    """Return a bar for each of those who have full control of systems with logs, the widest gap between held and used first.

    Not for root itself, whose use is that of the people who became root.
    """
    counts = [(one.name, len(one.logged), len(set(one.logged) & set(one.used))) for one in people if one.logged and one.name != "root"]
    ranked = sorted(counts, key=lambda row: (row[2] - row[1], -row[1], row[0]))[:_MOST_BARS]
    longest = max([1, *(held for _, held, _ in ranked)])
    return tuple(HeldUsed(name, held, used, round(_WIDTH * held / longest), round(_WIDTH * used / longest)) for name, held, used in ranked)
