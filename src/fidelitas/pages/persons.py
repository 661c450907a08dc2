"""Each person of the report: what is held, on which systems, and whether the logs show that it is used."""

from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import date

from msgspec import Struct

from fidelitas.pages.held import FULL, LIMITED, OBTAINABLE, Alike, Everything, Held, PersonHeld
from fidelitas.reports.sentences import brief

__all__ = ["HeldUsed", "PersonPart", "PersonRow", "Systems", "held_and_used", "persons_of"]

_MOST_BARS = 25
_MOST_SYSTEMS = 30
_WIDTH = 220


class Systems(Struct, frozen=True):
    """How many systems, and the first of them by name."""

    count: int
    names: str


class PersonRow(Struct, frozen=True):
    """One of what a person holds: where it is in the table of holders, if it is there; which right, on which systems, and how."""

    number: int | None
    right: str
    on: str
    how: str


class PersonPart(Struct, frozen=True, kw_only=True):
    """One person, or account that is nobody's: the systems of full control, held or to be obtained, others, and what is held first.

    `more` is what else is held.  `used` are the systems on which the logs show a use, `last` is the day of the last; `logged` those of full
    control that have logs, of which on `logged_used` the logs show a use.
    """

    number: int
    name: str
    accounts: tuple[str, ...]
    full: Systems
    obtainable: Systems
    limited: Systems
    rows: tuple[PersonRow, ...]
    more: int
    used: Systems
    logged: Systems
    logged_used: int
    last: date | None


class HeldUsed(Struct, frozen=True):
    """One bar: of how many systems with logs someone has full control, on how many of them it was used, and how long both are drawn."""

    name: str
    held: int
    used: int
    held_length: int
    used_length: int


def persons_of(
    every: Everything, systems: Sequence[Alike], last_used: Mapping[tuple[str, str], date], logged: Collection[str]
) -> tuple[PersonPart, ...]:
    """Return everyone who holds something, most systems of full control first.

    `last_used` is the day of the last use by system and person, `logged` are the systems whose logs were read.
    """
    days: dict[str, dict[str, date]] = {}
    for (subject, person), day in last_used.items():
        days.setdefault(person, {})[subject] = day
    shown = {one.number for one in every.shown}

    def order(named: tuple[str, PersonHeld]) -> tuple[int, int, int, str]:
        name, one = named
        full, obtainable = (sum(len(systems[at].names) for at in _reached(one, reach)) for reach in (FULL, OBTAINABLE))
        return -full, -obtainable, -one.count, name

    return tuple(
        _person(number, name, one, shown, systems, days.get(name, {}), logged)
        for number, (name, one) in enumerate(sorted(every.people.items(), key=order), 1)
    )


def _reached(one: PersonHeld, reach: int) -> list[int]:
    return [at for at, found in one.reach.items() if found == reach]


def _row(held: Held, shown: Collection[int]) -> PersonRow:
    number = held.number if held.number in shown else None
    return PersonRow(number, str(held.holding.right), held.alike.on, brief(held.holding.routes[0]))


def _person(
    number: int,
    name: str,
    one: PersonHeld,
    shown: Collection[int],
    systems: Sequence[Alike],
    days: Mapping[str, date],
    logged: Collection[str],
) -> PersonPart:
    def names(reach: int) -> set[str]:
        return {name for at in _reached(one, reach) for name in systems[at].names}

    full, first = names(FULL), one.in_order
    with_logs = full & set(logged)
    return PersonPart(
        number=number,
        name=name,
        accounts=tuple(sorted(one.accounts)),
        full=_named(full),
        obtainable=_named(names(OBTAINABLE)),
        limited=_named(names(LIMITED)),
        rows=tuple(_row(held, shown) for held in first),
        more=one.count - sum(len(held.alike.names) for held in first),
        used=_named(days),
        logged=_named(with_logs),
        logged_used=len(with_logs & days.keys()),
        last=max(days.values(), default=None),
    )


def _named(systems: Iterable[str]) -> Systems:
    names = sorted(systems)
    more = len(names) - _MOST_SYSTEMS
    return Systems(len(names), ", ".join(names[:_MOST_SYSTEMS]) + (f" and {more} more" if more > 0 else ""))


def held_and_used(people: Sequence[PersonPart]) -> tuple[HeldUsed, ...]:
    """Return a bar for each of those who have full control of systems with logs, the widest gap between held and used first.

    Not for root itself, whose use is that of the people who became root.
    """
    counts = [(one.name, one.logged.count, one.logged_used) for one in people if one.logged.count and one.name != "root"]
    ranked = sorted(counts, key=lambda row: (row[2] - row[1], -row[1], row[0]))[:_MOST_BARS]
    longest = max([1, *(held for _, held, _ in ranked)])
    return tuple(HeldUsed(name, held, used, round(_WIDTH * held / longest), round(_WIDTH * used / longest)) for name, held, used in ranked)
