"""Ordinary logins of which nothing matters but how many there were, and the last of each account."""

from collections import Counter
from datetime import datetime

from msgspec import Struct, field

__all__ = ["Counted"]

_MOST_MET = 100_000


class Counted(Struct):
    """What was counted in place of being yielded: events by host, the last login by host and account."""

    events: Counter[str] = field(default_factory=Counter)
    logins: dict[tuple[str, str], datetime] = field(default_factory=dict)
    met: set[tuple[str, str, str]] = field(default_factory=set)  # host, account and target of those that were an event

    def takes(self, host: str, names: tuple[str, str]) -> bool:
        """Count an ordinary login of which no more than that matters, and return whether it is one: not the first of its names on a host.

        These are the account and the target of the event.
        """
        met = host, *names
        if met in self.met:
            self.events[host] += 1
            return True
        if len(self.met) < _MOST_MET:
            self.met.add(met)
        return False

    def login(self, host: str, account: str, at: datetime | None) -> None:
        """Take the time of a login that was counted."""
        known = self.logins.get((host, account))
        if at is not None and (known is None or at > known):
            self.logins[host, account] = at
