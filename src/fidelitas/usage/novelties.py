"""What accounts of one host use for the first time, against what each has used so far."""

from collections import Counter
from collections.abc import Iterable, Iterator
from enum import Enum

from msgspec import Struct

from fidelitas.usage.persons import AttributedEvent
from fidelitas.usage.statistics import novelty_tail

__all__ = ["LASTING", "FirstUses", "New", "Novelty"]

_MOST_KEYS, _MOST = 20_000, 5000
# A first time means something once there is a habit.
_HABIT = 20
# So many who did the same make it usual.
_TEAM = 2
# A new thing is reported where one use in so many, or fewer, is new by the account's own record.
_NOVEL = 0.02


class New(Enum):
    """What an account can use for the first time."""

    RIGHT = "right"
    COMMAND = "command"


class Novelty(Struct, frozen=True):
    """The first use of a command or a right by an account with a habit: after so many uses of `known` others; how probable that is."""

    record: AttributedEvent
    what: New
    uses: int
    known: int
    chance: float


class _Known:
    """What accounts have used so far, how often, and who used what, up to a team."""

    __slots__ = ("users", "values", "what")

    def __init__(self, what: New) -> None:
        self.what = what
        self.values: dict[str, Counter[str]] = {}
        self.users: dict[str, set[str]] = {}


_Improbable = tuple[New, int, int, float]  # what is new, after how many uses of how many others, and how probable that is


class FirstUses:
    """Takes the uses of persons in the order of time; `novelties` are those that a person's own record makes improbable."""

    __slots__ = ("_commands", "_rights", "novelties")

    def __init__(self) -> None:
        self.novelties: list[Novelty] = []
        self._rights, self._commands = _Known(New.RIGHT), _Known(New.COMMAND)

    def add(self, person: str, right: str, work: str) -> list[_Improbable]:
        """Take a use by one person, as the account of a right and of a kind of work; return what of it is to `report`."""
        found: list[_Improbable] = []
        for of, value in ((self._rights, right), (self._commands, work)):
            known = of.values.get(person)
            if known is None:
                known = of.values[person] = Counter()
            count = known.get(value)
            if count is not None:
                known[value] = count + 1
            elif len(known) < _MOST_KEYS:
                found += self._met(person, of, value, known)
                known[value] = 1
        return found

    def report(self, found: Iterable[_Improbable], record: AttributedEvent) -> None:
        """Take the record of what was found to be improbable."""
        self.novelties += [Novelty(record, *one) for one in found]

    def _met(self, person: str, of: _Known, value: str, known: Counter[str]) -> Iterator[_Improbable]:
        uses, users = known.total(), of.users
        usual = users.setdefault(value, set()) if value in users or len(users) < _MOST_KEYS else set()
        # What colleagues do is a habit of the team.
        if uses >= _HABIT and len(self.novelties) < _MOST and (of.what is New.RIGHT or len(usual) < _TEAM):
            chance = novelty_tail(uses, sum(count == 1 for count in known.values()), len(known))
            if chance <= _NOVEL:
                yield of.what, uses, len(known), chance
        if len(usual) < _TEAM:
            usual.add(person)


# What is kept while logs go on.
LASTING = (FirstUses, _Known, Novelty)
