"""Hours since 1970 (UTC), by which the lines of logs are counted."""

from datetime import datetime

__all__ = ["hour_of"]

_FIRST_DAY = datetime(1970, 1, 1).toordinal()  # noqa: DTZ001


def hour_of(at: datetime) -> int:
    """Return the number of the hour of a time, which is in UTC."""
    return (at.toordinal() - _FIRST_DAY) * 24 + at.hour
