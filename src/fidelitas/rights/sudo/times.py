"""The times of NOTBEFORE and NOTAFTER: generalized time, as sudoers(5) and RFC 4517 (3.3.13) write it."""

import re
from datetime import UTC, datetime, timedelta, timezone

__all__ = ["generalized_time"]

_FORM = re.compile(r"(\d{4})(\d\d)(\d\d)(\d\d)(?:(\d\d)(\d\d)?)?(?:[.,]\d+)?(Z|[+-]\d\d(?:\d\d)?)?\Z", re.ASCII)


def generalized_time(text: str) -> datetime | None:
    """Return the time that a text states, or ``None`` where it states none.

    Without a zone the host's own is meant, which the evidence does not tell: UTC is taken.
    """
    found = _FORM.match(text)
    if not found:
        return None
    zone = UTC
    if found[7] and found[7] != "Z":
        sign = -1 if found[7][0] == "-" else 1
        zone = timezone(sign * timedelta(hours=int(found[7][1:3]), minutes=int(found[7][3:5] or 0)))
    try:
        year, month, day, hour, minute, second = (int(found[number] or 0) for number in range(1, 7))
        return datetime(year, month, day, hour, minute, min(second, 59), tzinfo=zone)
    except ValueError:
        return None
