"""What the page shows of all that is held: of equal systems one stands for all, and of very many holdings those that reach furthest."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from msgspec import Struct, field

from fidelitas.facts import Place
from fidelitas.findings import Finding
from fidelitas.rights import COUNTED, Holding, SubjectRights, marked

__all__ = ["FULL", "LIMITED", "OBTAINABLE", "Alike", "Everything", "Held", "PersonHeld", "Through", "alike_in", "everything_held"]

_MOST = 10_000  # holdings: a page that a browser opens and searches at once
_MOST_OF_PERSON = 25
_MOST_ROUTES = 3  # of a finding
FULL, OBTAINABLE, LIMITED = range(3)

_Where = tuple[str, str, int | None]


class Alike(Struct, frozen=True, eq=False):
    """Systems of which the same is said, by name; the first stands for all."""

    number: int
    first: SubjectRights
    names: tuple[str, ...]

    @property
    def on(self) -> str:
        """The first by name, and how many others."""
        return self.names[0] + (f" and {len(self.names) - 1} more" if len(self.names) > 1 else "")


class Held(NamedTuple):
    """One holding of the first of some equal systems; `person` is whose it is, or who holds it."""

    number: int
    alike: Alike
    holding: Holding
    person: str

    @property
    def reach(self) -> int:
        """How far it reaches: full control, by a weakness or under a condition only, or not."""
        return LIMITED if not self.holding.right.kind.full else FULL if self.holding.granted else OBTAINABLE


class PersonHeld(Struct):
    """What a person holds: by which accounts, how far it reaches by the number of equal systems, how much, and the first of it."""

    accounts: set[str] = field(default_factory=set)
    reach: dict[int, int] = field(default_factory=dict)
    count: int = 0
    first: list[Held] = field(default_factory=list)

    def add(self, one: Held) -> None:
        """Add a holding."""
        number, reach = one.alike.number, one.reach
        self.accounts.add(str(one.holding.principal))
        self.reach[number] = min(reach, self.reach.get(number, reach))
        self.count += len(one.alike.names)
        _keep(self.first, one, _MOST_OF_PERSON, _furthest)

    @property
    def in_order(self) -> list[Held]:
        """The first of what is held, system by system."""
        return sorted(sorted(self.first, key=_furthest)[:_MOST_OF_PERSON])


class Through(Struct):
    """How many holdings rest on what a finding is about, and the gravest of them."""

    count: int = 0
    gravest: list[Held] = field(default_factory=list)

    def add(self, one: Held, places: Iterable[_Where]) -> None:
        """Add a holding, a link of which is at some places of the finding: of one system, or of a directory that all of them have."""
        self.count += 1 if any(subject in one.alike.names for subject, *_ in places) else len(one.alike.names)
        _keep(self.gravest, one, _MOST_ROUTES, _gravest)

    @property
    def in_order(self) -> list[Held]:
        """The gravest, in that order."""
        return sorted(self.gravest, key=_gravest)[:_MOST_ROUTES]


def _furthest(held: Held) -> tuple[int, int]:
    return held.reach, held.number


def _gravest(held: Held) -> tuple[bool, bool, int]:
    return not held.holding.right.kind.full, held.holding.granted, held.number


def _keep(kept: list[Held], one: Held, most: int, order: Callable[[Held], tuple[int, ...]]) -> None:
    """Keep one among the first by an order; more than are asked for are cut at times."""
    kept.append(one)
    if len(kept) >= 2 * most:
        kept.sort(key=order)
        del kept[most:]


class Everything(Struct, frozen=True):
    """What is held on all systems: `count` holdings, `shown` those of which a table has a row, and what each person has.

    `through` has for each finding the holdings that rest on it.
    """

    count: int
    shown: tuple[Held, ...]
    people: Mapping[str, PersonHeld]
    through: Sequence[Through]


def alike_in(subjects: Iterable[SubjectRights], apart: Callable[[str], bool]) -> tuple[Alike, ...]:
    """Return the systems of which the same is said, together; alone each that is to be `apart`, by its name."""
    together: dict[tuple[object, str], list[SubjectRights]] = {}
    for mark, one in marked(subjects):
        together.setdefault((mark, one.subject if apart(one.subject) else ""), []).append(one)
    return tuple(Alike(number, some[0], tuple(one.subject for one in some)) for number, some in enumerate(together.values()))


def everything_held(systems: Sequence[Alike], whose: Callable[[str, Holding], str], findings: Sequence[Finding]) -> Everything:
    """Return what is held on some systems; `whose` says by subject of whom a holding is."""
    count, people, resting = 0, dict[str, PersonHeld](), _Resting(systems, findings)
    furthest: tuple[list[Held], ...] = ([], [], [])
    for one in _held(systems, whose):
        count += len(one.alike.names)
        if len(furthest[one.reach]) < _MOST:
            furthest[one.reach].append(one)
        if one.holding.principal.kind in COUNTED:
            people.setdefault(one.person, PersonHeld()).add(one)
        resting.add(one)
    first = [held for some in furthest for held in some][:_MOST]
    shown = {held.number: held for held in (*first, *(held for found in resting.through for held in found.in_order))}
    return Everything(count, tuple(shown[number] for number in sorted(shown)), people, resting.of_findings)


def _held(systems: Iterable[Alike], whose: Callable[[str, Holding], str]) -> Iterator[Held]:
    number = 0
    for one in systems:
        for holding in one.first.own_holdings:
            number += 1
            yield Held(number, one, holding, whose(one.first.subject, holding))


class _Resting:
    """The holdings that rest on findings; thousands of findings can be about one line, and are one here."""

    def __init__(self, systems: Iterable[Alike], findings: Sequence[Finding]) -> None:
        self._first = {name: one.names[0] for one in systems for name in one.names}
        self._at: dict[_Where, list[int]] = {}  # which places, as they are on the first of equal systems
        self._places: list[tuple[_Where, ...]] = []
        self.through: list[Through] = []
        numbers: dict[tuple[_Where, ...], int] = {}
        self._number_of = [self._number(tuple(dict.fromkeys(map(_where, one.places))), numbers) for one in findings]

    def _number(self, places: tuple[_Where, ...], numbers: dict[tuple[_Where, ...], int]) -> int:
        if places not in numbers:
            numbers[places] = len(numbers)
            self._places.append(places)
            self.through.append(Through())
            for subject, path, line in places:
                self._at.setdefault((self._first.get(subject, subject), path, line), []).append(numbers[places])
        return numbers[places]

    def add(self, one: Held) -> None:
        """Add a holding to what rests on the places of the links of its strongest route."""
        met = {_where(link.place) for link in one.holding.routes[0].links}
        for number in {number for where in met for number in self._at.get(where, ())}:
            self.through[number].add(one, [place for place in self._places[number] if self._here(place) in met])

    def _here(self, place: _Where) -> _Where:
        return self._first.get(place[0], place[0]), *place[1:]

    @property
    def of_findings(self) -> list[Through]:
        """What rests on each finding."""
        return [self.through[number] for number in self._number_of]


def _where(place: Place) -> _Where:
    return place.subject, place.path, place.line
