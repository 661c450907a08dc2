"""Failed attempts on one host, by account and by where they came from, hour by hour: gathered while actions go by."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TypeVar

from fidelitas.facts import LOGIN_SERVICES, Event, EventKind, Hours, Place
from fidelitas.usage.causes import METHODS
from fidelitas.usage.persons import AttributedEvent

__all__ = ["FailedAttempts", "Failures", "Spray"]

K = TypeVar("K")
_MOST_KEYS, _MOST_ACCOUNTS = 20_000, 500
_OTHERS = "(others)"
# Accounts that are tried from one place within an hour: nobody has so many of their own.
_MANY_ACCOUNTS = 5
_MOST_SPRAYS = 20


@dataclass(slots=True)
class Failures:
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


@dataclass(frozen=True, slots=True)
class Spray:
    """Many accounts, `names` some of them, tried from one place within an hour."""

    source: str
    hour: int
    place: Place
    attempts: int
    accounts: int
    names: tuple[str, ...]


class FailedAttempts:
    """The failed attempts of a host; events come by time, but for a little disorder."""

    def __init__(self) -> None:
        self.by_account: dict[str, dict[int, Failures]] = {}  # by account and hour
        self._sources: dict[int, dict[str, Failures]] = {}  # by hour and address or terminal; of hours past those with many accounts
        self._hours = Hours()

    def add(self, record: AttributedEvent, count: int) -> None:
        """Count an event that tells of so many failed attempts."""
        event = record.event
        if event.at is None or not count:
            return
        account = (record.persons[0] if event.kind is EventKind.FAILED and record.persons else event.target or event.account) or "(no name)"
        source = event.address or event.terminal or event.account
        hour = self._hours.number(event.at)
        known = account in self.by_account or len(self.by_account) < _MOST_KEYS
        hours = self.by_account.setdefault(account if known else _OTHERS, {})
        _failed(hours, hour, record, count)
        if source:
            if hour not in self._sources:
                self._forget_sources(hour)
            here = self._sources.setdefault(hour, {})
            found = _failed(here, source if source in here or len(here) < _MOST_KEYS else _OTHERS, record, count)
            found.accounts = found.accounts or set()
            if len(found.accounts) < _MOST_ACCOUNTS:
                found.accounts.add((event.target or account, event.masked))

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
