"""The hours in which each account of one host used privilege, or tried to: in columns of numbers, since there are many."""

from array import array
from bisect import bisect_left
from collections.abc import Container, Iterator
from datetime import datetime, tzinfo

from fidelitas.facts import Place, hour_of
from fidelitas.usage.habits import bin_of, is_usual
from fidelitas.usage.packed import Packed
from fidelitas.usage.statistics import BINS

__all__ = ["LASTING", "ActiveHours", "FirstUse"]

_MOST_PEOPLE = 20_000
_MOST_COUNTED = 255  # of a byte: more is usual anyway
FirstUse = tuple[str, int, str, Place]


class _OfPerson:
    """Active hours since 1970, UTC, in their order, with the number of uses in each; those of lines out of order apart."""

    __slots__ = ("bins", "counts", "hours", "late")

    def __init__(self) -> None:
        self.hours, self.counts, self.late = array("i"), array("I"), dict[int, int]()
        self.bins = bytearray(BINS)

    def add(self, hour: int) -> bool:
        """Count a use, and return whether it is the first of its hour."""
        hours = self.hours
        if not hours or hour > hours[-1]:
            hours.append(hour)
            self.counts.append(1)
            return True
        at = len(hours) - 1 if hour == hours[-1] else bisect_left(hours, hour)
        if hours[at] == hour:
            self.counts[at] += 1
            return False
        self.late[hour] = self.late.get(hour, 0) + 1
        return self.late[hour] == 1

    def by_hour(self) -> dict[int, int]:
        """Return the number of uses in each hour, in the order of time."""
        found = dict(zip(self.hours, self.counts, strict=True))
        return dict(sorted((found | self.late).items())) if self.late else found


class ActiveHours:
    """Counts uses and attempts; of hours that can turn out to be unusual the first command is kept, and where it stands."""

    __slots__ = ("_bin", "_everyone", "_first", "_hour", "_people", "zone")

    def __init__(self, zone: tzinfo) -> None:
        """`zone` is that of the host's clock, by which habits are told."""
        self.zone = zone
        self._people: dict[str, _OfPerson] = {}
        self._everyone = [0] * BINS  # active hours by hour of the day and kind of day
        self._first: Packed[FirstUse] = Packed(FirstUse)
        self._hour = self._bin = -1  # the hour that was looked up last

    def __contains__(self, person: str) -> bool:
        return person in self._people

    def __iter__(self) -> Iterator[str]:
        return iter(self._people)

    def of(self, person: str) -> dict[int, int]:
        """Return the active hours of someone, with the number of uses in each."""
        return self._people[person].by_hour()

    def add(self, person: str, at: datetime | None, command: str, place: Place, line: int | None = None) -> None:
        """Count a use or an attempt of one person by its hour; it is told at a place, or by a line of the log that this is in."""
        if at is None:
            return
        one = self._people.get(person)
        if one is None:
            if len(self._people) >= _MOST_PEOPLE:
                return
            one = self._people[person] = _OfPerson()
        hour = hour_of(at)
        if one.add(hour) and self._may_be_odd(one, hour):
            self._first.append((person, hour, command, place if line is None else place.at(line)))

    def _may_be_odd(self, one: _OfPerson, hour: int) -> bool:
        """Count an hour that someone is active in, and return whether it can still turn out to be unusual."""
        if hour != self._hour:
            self._hour, self._bin = hour, bin_of(hour, self.zone)
        at, bins = self._bin, one.bins
        bins[at] = min(bins[at] + 1, _MOST_COUNTED)
        self._everyone[at] += 1
        return not is_usual(bins[at], self._everyone[at])

    def first_uses(self, of: Container[tuple[str, int]]) -> dict[tuple[str, int], tuple[str, Place]]:
        """Return the first command of some hours of people, and its place, as far as these are kept."""
        return {(person, hour): (command, place) for person, hour, command, place in self._first if (person, hour) in of}


# What is kept while logs go on.
LASTING = (ActiveHours, _OfPerson)
