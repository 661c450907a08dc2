"""When a line was written: stamps of ISO 8601, and the traditional ones, which have no year.

The year follows from the order of the lines and from a time by which the last was written: such a log grows at its end.
"""

import re
from datetime import UTC, datetime, timedelta, tzinfo

__all__ = ["Clock", "has_year"]

_MONTHS = {"JanFebMarAprMayJunJulAugSepOctNovDec"[at : at + 3]: at // 3 + 1 for at in range(0, 36, 3)}
_ISO = re.compile(r"(\d{4}-\d\d-\d\d)[T ](\d\d:\d\d:\d\d)(?:[.,](\d+))?(Z|[+-]\d\d:?\d\d)?\Z")
# Made once: a log has millions of lines.
_SECONDS = tuple(timedelta(seconds=number) for number in range(100))
# A log whose lines come from several programs is now and then a moment out of order; a year's end is not a moment.
_NEW_YEAR = timedelta(days=180)


def has_year(stamp: str) -> bool:
    """Return whether a stamp tells its year."""
    return stamp[:4].isdigit()


class Clock:
    """Reads the stamps of one log in their order; `zone` is the host's, `by` a time by which the last line was written.

    `first` and `last` are the first and the last stamp of the log, from which the year that it begins in follows.
    """

    def __init__(self, zone: tzinfo, by: datetime, first: str = "", last: str = "") -> None:
        self._zone = zone
        self._minutes: dict[str, datetime | None] = {}
        self._before: datetime | None = None
        self._year = _first_year(by.astimezone(zone), first, last)

    def read(self, stamp: str) -> datetime | None:
        """Return the time of a stamp in UTC, or ``None`` for one that is no time."""
        if has_year(stamp):
            return _iso(stamp, self._zone)
        minute = self._minutes.get(stamp[:12])
        if minute is None:
            minute = self._minute(stamp[:12])
            if minute is None:
                return None
            self._minutes = {stamp[:12]: minute}  # the lines of a minute stand together
        return minute + _SECONDS[int(stamp[13:15])]

    def near(self, stamp: str) -> datetime | None:
        """Return the time of a stamp that stands near the one read last; the order of such does not count."""
        if has_year(stamp):
            return _iso(stamp, self._zone)
        years = (_traditional(stamp, year) for year in (self._year - 1, self._year, self._year + 1))
        known = [found for found in years if found is not None]
        before = self._before
        if not known or before is None:
            return None
        return min(known, key=lambda found: abs(found - before)).replace(tzinfo=self._zone).astimezone(UTC)

    def _minute(self, text: str) -> datetime | None:
        found = _traditional(f"{text}:00", self._year)
        if found is not None and self._before is not None and self._before - found > _NEW_YEAR:
            self._year += 1
            found = _traditional(f"{text}:00", self._year)
        self._before = found or self._before
        return None if found is None else found.replace(tzinfo=self._zone).astimezone(UTC)


def _first_year(by: datetime, first: str, last: str) -> int:
    """Return the year of the first line: the latest by which the last is not in the future, give or take a day, and both are dates."""
    limit = by.replace(tzinfo=None) + timedelta(days=1)
    for year in range(limit.year, limit.year - 9, -1):  # nine, for the 29th of February
        end = _traditional(last or first, year)
        if end is None or end > limit:
            continue
        begin = _traditional(first or last, year)
        if begin is not None and begin - end <= timedelta(days=1):
            return year
        if _traditional(first, year - 1) is not None:
            return year - 1
    return limit.year


def _traditional(stamp: str, year: int) -> datetime | None:
    try:
        hour, minute, second = (int(part) for part in stamp[7:15].split(":"))
        return datetime(year, _MONTHS[stamp[:3]], int(stamp[4:6]), hour, minute, min(second, 59))  # noqa: DTZ001
    except (ValueError, KeyError):
        return None


def _iso(stamp: str, zone: tzinfo) -> datetime | None:
    try:
        read: datetime | None = datetime.fromisoformat(stamp)
    except ValueError:
        read = _odd_iso(stamp)
    if read is None or read.tzinfo is UTC:
        return read
    return (read if read.tzinfo else read.replace(tzinfo=zone)).astimezone(UTC)


def _odd_iso(stamp: str) -> datetime | None:
    """Return the time of a stamp in a form that the library does not take, such as with a comma before the fraction."""
    found = _ISO.match(stamp)
    if found is None:
        return None
    date, time, fraction, offset = found.groups()
    try:
        return datetime.fromisoformat(f"{date}T{time}.{(fraction or '0')[:6].ljust(6, '0')}{offset or ''}")
    except ValueError:
        return None
