"""Hours since 1970 (UTC), by which the lines of logs are counted."""

from datetime import UTC, datetime

__all__ = ["Hours"]


class Hours:
    """Numbers the hours of times; those that come after one another are mostly of one hour, which is worked out once."""

    __slots__ = ("_begin", "_last", "_number")

    def __init__(self) -> None:
        self._begin = self._last = datetime(1970, 1, 1, tzinfo=UTC)
        self._number = 0

    def number(self, at: datetime) -> int:
        """Return the number of the hour of a time."""
        if not self._begin <= at <= self._last:
            self._begin = at.replace(minute=0, second=0, microsecond=0)
            self._last = at.replace(minute=59, second=59, microsecond=999_999)
            self._number = int(self._begin.timestamp()) // 3600
        return self._number
