"""How long what a log records waits for its next lines: a program writes at once what it writes of one action."""

from collections.abc import Iterable
from datetime import UTC, datetime, timedelta

__all__ = ["earliest", "has_waited"]

_PATIENCE = timedelta(minutes=2)
_EVER = datetime(1, 1, 2, tzinfo=UTC)


def has_waited(since: datetime | None, now: datetime | None) -> bool:
    """Return whether something has waited long enough; what has no time goes on waiting."""
    return since is not None and now is not None and now - since > _PATIENCE


def earliest(waiting: Iterable[datetime | None]) -> datetime | None:
    """Return the time of the first of some things that wait; of one without a time it is before all others; ``None`` where none does."""
    return min((at or _EVER for at in waiting), default=None)
