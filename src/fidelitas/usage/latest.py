"""When accounts of one place logged in last and used privilege last, and how many uses there were in which quarter of an hour."""

from datetime import datetime

from msgspec import Struct, field

from fidelitas.facts import hour_of

__all__ = ["Latest", "LatestSoFar"]

_MOST, _MOST_QUARTERS = 20_000, 200_000  # of accounts; of six years
_QUARTERS, _MINUTES = 4, 15


class Latest(Struct):
    """The last logins by account, the last uses by the account that a line names and by person; how many uses by quarter since 1970."""

    logins: dict[str, datetime] = field(default_factory=dict)
    uses: dict[str, datetime] = field(default_factory=dict)
    by_person: dict[str, datetime] = field(default_factory=dict)
    quarters: dict[int, int] = field(default_factory=dict)

    def include(self, other: "Latest") -> None:
        """Add what others tell of the same place."""
        for mine, theirs in ((self.logins, other.logins), (self.uses, other.uses), (self.by_person, other.by_person)):
            for name, at in theirs.items():
                mine[name] = max(at, mine.get(name, at))
        for quarter, count in other.quarters.items():
            self.quarters[quarter] = self.quarters.get(quarter, 0) + count


class LatestSoFar:
    """Takes the events of one place as they go by, host by host; `found` is what they tell."""

    __slots__ = ("found",)

    def __init__(self) -> None:
        self.found = Latest()

    def login(self, account: str, at: datetime | None) -> None:
        """Take a login."""
        if at is not None and account:
            _keep(self.found.logins, account, at)

    def use(self, account: str, person: str, at: datetime | None) -> None:
        """Take a use of privilege: the account that the line names, and who is known to have stood behind it, or nothing."""
        found = self.found
        if at is None:
            return
        _keep(found.uses, account, at)
        _keep(found.by_person, person, at)
        quarter, quarters = hour_of(at) * _QUARTERS + at.minute // _MINUTES, found.quarters
        count = quarters.get(quarter, 0)
        if count or len(quarters) < _MOST_QUARTERS:
            quarters[quarter] = count + 1


def _keep(latest: dict[str, datetime], name: str, at: datetime) -> None:
    before = latest.get(name)
    if before is None:
        if len(latest) < _MOST:
            latest[name] = at
    elif at > before:
        latest[name] = at
