"""Failed attempts on one host, by account and by where they came from, hour by hour: gathered while actions go by."""

from array import array
from collections.abc import Collection, Iterator
from itertools import chain
from typing import TypeVar

from msgspec import Struct

from fidelitas.facts import LOGIN_SERVICES, Event, EventKind, Place, hour_of
from fidelitas.usage.causes import METHODS
from fidelitas.usage.packed import Packed
from fidelitas.usage.persons import AttributedEvent

__all__ = ["LASTING", "FailedAttempts", "Failures", "FirstFailure", "Spray"]

K = TypeVar("K")
_MOST_KEYS, _MOST_ACCOUNTS = 20_000, 500
_OTHERS = "(others)"
# Accounts that are tried from one place within an hour: nobody has so many of their own.
_MANY_ACCOUNTS = 5
_MOST_SPRAYS = 20
FirstFailure = tuple[str, int, str, Place]  # account, hour, where the first came from, and where it stands


class Failures(Struct):
    """Failed attempts of one hour from one place or on one account.

    One attempt at a login is told by up to three lines: PAM's, that of the attempt itself, and why it cannot succeed (no such account,
    not allowed).  None of them is always there: each sort of line is counted by itself, and the highest number is that of the attempts.
    """

    place: Place  # of the first
    source: str
    tries: int = 0
    by_pam: int = 0
    refusals: int = 0
    accounts: set[tuple[str, int]] | None = None  # that one place tried; of a name that is masked, which

    @property
    def count(self) -> int:
        """How many attempts failed."""
        return max(self.tries, self.by_pam, self.refusals)

    def add(self, event: Event, count: int, *, own: bool) -> None:
        """Count a line that tells of so many attempts; those of someone's `own` password for sudo and the like are told once."""
        if own or event.reason in METHODS:
            self.tries += count
        elif event.kind is EventKind.FAILED:
            self.by_pam += count
        else:
            self.refusals += count


class Spray(Struct, frozen=True):
    """Many accounts, `names` some of them, tried from one place within an hour."""

    source: str
    hour: int
    place: Place
    attempts: int
    accounts: int
    names: tuple[str, ...]


class _OfAccount:
    """Failed attempts on one account: of the hours about the present as they are, of those past their numbers in columns."""

    __slots__ = ("_hours", "_numbers", "present")

    def __init__(self) -> None:
        self.present: dict[int, Failures] = {}
        self._hours, self._numbers = array("i"), array("Q")

    def past(self, now: int) -> Iterator[tuple[int, Failures]]:
        """Put the hours past into columns, and yield them; lines may be a little out of order."""
        for hour in [hour for hour in self.present if abs(hour - now) > 1]:
            found = self.present.pop(hour)
            self._hours.append(hour)
            self._numbers.extend((found.tries, found.by_pam, found.refusals))
            yield hour, found

    def by_hour(self) -> dict[int, tuple[int, int, int]]:
        """Return the three numbers of each hour."""
        found: dict[int, tuple[int, int, int]] = {}
        numbers = zip(*[iter(self._numbers)] * 3, strict=True)
        present = ((hour, (one.tries, one.by_pam, one.refusals)) for hour, one in self.present.items())
        for hour, (tries, by_pam, refusals) in chain(zip(self._hours, numbers, strict=True), present):
            before = found.get(hour, (0, 0, 0))
            found[hour] = tries + before[0], by_pam + before[1], refusals + before[2]
        return found


class FailedAttempts:
    """The failed attempts of a host; events come by time, but for a little disorder."""

    __slots__ = ("_accounts", "_first", "_sources")

    def __init__(self) -> None:
        self._accounts: dict[str, _OfAccount] = {}
        self._first: Packed[FirstFailure] = Packed(FirstFailure)  # of hours past
        self._sources: dict[int, dict[str, Failures]] = {}  # by hour and address or terminal; of hours past those with many accounts

    def counts(self) -> dict[str, dict[int, int]]:
        """Return how many attempts failed, by account and hour."""
        return {account: {hour: max(three) for hour, three in one.by_hour().items()} for account, one in self._accounts.items()}

    def of(self, wanted: Collection[tuple[str, int]]) -> dict[tuple[str, int], Failures]:
        """Return the failed attempts on some accounts in some hours."""
        present = ((who, hour, one.source, one.place) for who, of in self._accounts.items() for hour, one in of.present.items())
        numbers = {account: self._accounts[account].by_hour() for account in {account for account, _ in wanted}}
        found: dict[tuple[str, int], Failures] = {}
        for account, hour, source, place in chain(self._first, present):
            if (account, hour) in wanted and (account, hour) not in found:
                found[account, hour] = Failures(place, source, *numbers[account][hour])
        return found

    def add(self, record: AttributedEvent, count: int) -> None:
        """Count an event that tells of so many failed attempts."""
        event = record.event
        if event.at is None or not count:
            return
        account = (record.persons[0] if event.kind is EventKind.FAILED and record.persons else event.target or event.account) or "(no name)"
        source = event.address or event.terminal or event.account
        hour = hour_of(event.at)
        known = account in self._accounts or len(self._accounts) < _MOST_KEYS
        self._add_to(account if known else _OTHERS, hour, record, count)
        if source:
            if hour not in self._sources:
                self._forget_sources(hour)
            here = self._sources.setdefault(hour, {})
            found = _failed(here, source if source in here or len(here) < _MOST_KEYS else _OTHERS, record, count)
            found.accounts = found.accounts or set()
            if len(found.accounts) < _MOST_ACCOUNTS:
                found.accounts.add((event.target or account, event.masked))

    def _add_to(self, account: str, hour: int, record: AttributedEvent, count: int) -> None:
        of = self._accounts.get(account)
        if of is None:
            of = self._accounts[account] = _OfAccount()
        if hour not in of.present:
            for before, found in of.past(hour):
                self._first.append((account, before, found.source, found.place))
        _failed(of.present, hour, record, count)

    def _forget_sources(self, now: int) -> None:
        """Forget where few failures came from, but for the hours about one that begins: lines may be a little out of order."""
        for hour in [hour for hour in self._sources if abs(hour - now) > 1]:
            kept = {source: found for source, found in self._sources[hour].items() if _tried_many(found)}
            self._sources[hour] = kept
            if not kept:
                del self._sources[hour]

    def sprays(self) -> list[Spray]:
        """Return from where many accounts were tried within an hour, the most first."""
        rows = [(source, hour, found) for hour, here in self._sources.items() for source, found in here.items() if _tried_many(found)]
        rows.sort(key=lambda row: -len(row[2].accounts or ()))
        return [
            Spray(source, hour, found.place, found.count, len(found.accounts or ()), tuple(_names(found))[:_MANY_ACCOUNTS])
            for source, hour, found in rows[:_MOST_SPRAYS]
        ]


def _tried_many(found: Failures) -> bool:
    return found.accounts is not None and len(found.accounts) >= _MANY_ACCOUNTS


def _names(found: Failures) -> Iterator[str]:
    yield from sorted({name for name, _ in found.accounts or ()})


def _failed(table: dict[K, Failures], key: K, record: AttributedEvent, count: int) -> Failures:
    event, found = record.event, table.get(key)
    if found is None:
        found = table[key] = Failures(event.place, event.address or event.terminal)
    found.add(event, count, own=event.kind is EventKind.FAILED and (bool(record.persons) or event.program not in LOGIN_SERVICES))
    return found


# What is kept while logs go on.
LASTING = (FailedAttempts, _OfAccount, Failures)
