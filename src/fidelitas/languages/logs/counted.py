"""Ordinary logins of which nothing matters but how many there were, and the last of each account."""

from collections import Counter
from dataclasses import dataclass, field
from datetime import datetime

__all__ = ["Counted"]


@dataclass(slots=True)
class Counted:
    """What was counted in place of being yielded: events by host, the last login by host and account."""

    events: Counter[str] = field(default_factory=Counter)
    logins: dict[tuple[str, str], datetime] = field(default_factory=dict)

    def add(self, host: str, account: str, at: datetime | None) -> None:
        """Count an event; `at` is when it was, if it is a login."""
        self.events[host] += 1
        if at is not None:
            met = host, account
            if at > self.logins.get(met, at) or met not in self.logins:
                self.logins[met] = at
