"""The times of a policy: generalized time (NOTBEFORE, NOTAFTER) and time-outs, as sudoers(5) writes them."""

import calendar
import re
from datetime import UTC, datetime

__all__ = ["generalized_time", "timeout_seconds"]

# RFC 4517, 3.3.13, as far as sudo reads it: minutes and seconds may be missing, a fraction has one digit.
_FORM = re.compile(r"(\d{4})(\d\d)(\d\d)(\d\d)(\d\d)?(\d\d)?(?:[.,](\d))?(?:(Z)|([+-])(\d\d)(\d\d)?)?\Z", re.ASCII)
_LATEST = calendar.timegm((9999, 12, 31, 23, 59, 59))


def generalized_time(text: str) -> datetime | None:
    """Return the time that a text states, or ``None`` where it states none.

    As for timegm(3), a field out of its range runs over into the next.  Without a zone the host's own is meant, which the evidence does
    not tell: UTC is taken.
    """
    found = _FORM.match(text)
    if not found:
        return None
    year, month, day, hour, minute, second = (int(found[number] or 0) for number in range(1, 7))
    tenths = int(found[7] or 0)
    if found[5] is None:
        minute += 6 * tenths
    elif found[6] is None:
        second += 6 * tenths
    offset = (int(found[10] or 0) * 60 + int(found[11] or 0)) * 60 * (-1 if found[9] == "-" else 1)
    try:
        seconds = calendar.timegm((year + (month - 1) // 12, (month - 1) % 12 + 1, day, hour, minute, second)) - offset
    except ValueError:  # the year 0
        return None
    return datetime.fromtimestamp(min(seconds, _LATEST), UTC)


_PART = re.compile(r"\s*\+?(\d{1,10})([a-z]?)", re.IGNORECASE | re.ASCII)
_SECONDS = {"d": 86400, "h": 3600, "m": 60, "s": 1}
_INT_MAX = 2**31 - 1


def timeout_seconds(text: str) -> int | None:
    """Return the seconds of a time-out such as ``1d2h3m4s`` or ``90``, or ``None`` where a text states none."""
    total, at, order = 0, 0, ""
    while at < len(text) or not at:
        part = _PART.match(text, at)
        if part is None:
            return None
        unit = part[2].lower()
        in_order = not order or not unit or "dhms".find(unit) >= "dhms".index(order)
        if (unit and unit not in _SECONDS) or not in_order or (not unit and part.end() < len(text)):
            return None
        total += int(part[1]) * _SECONDS.get(unit, 1)
        at, order = part.end(), unit or order
    return total if total <= _INT_MAX else None
