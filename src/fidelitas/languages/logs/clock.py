"""When a line was written: stamps of ISO 8601, and the traditional ones, which have no year.

The year follows from the order of the lines and from a time by which the last was written: such a log grows at its end.
"""

import re
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta, tzinfo
from typing import Any

__all__ = ["Clock", "has_year"]

_MONTHS = {"JanFebMarAprMayJunJulAugSepOctNovDec"[at : at + 3]: at // 3 + 1 for at in range(0, 36, 3)}
_ISO = re.compile(r"(\d{4}-\d\d-\d\d)[T ](\d\d:\d\d:\d\d)(?:[.,](\d+))?(Z|[+-]\d\d:?\d\d)?\Z")
_OFFSET = re.compile(r"[+-](?:[01]\d|2[0-3]):[0-5]\d")
_MOST_OFFSETS = 100
# Made once: a log has millions of lines.
_SECONDS = tuple(timedelta(seconds=number) for number in range(100))
# A log whose lines come from several programs is now and then out of order, and clocks are set back; a year's end is more.
_NEW_YEAR = timedelta(days=2)
# A machine without a clock of its own begins with the year, until it learns the time.
_UNSET = timedelta(hours=1)
_UNSET_CLOCK = "Jan  1 00:"
_FAR = timedelta(days=180)
_LEAP_YEARS = 9


def has_year(stamp: str) -> bool:
    """Return whether a stamp tells its year."""
    return stamp[:4].isdigit()


class Clock:
    """Reads the stamps of one log in their order; `zone` is the host's, `by` a time by which the last line was written.

    `samples` are stamps of the log in their order, the first and the last among them, from which the year that it begins in follows.
    """

    def __init__(self, zone: tzinfo, by: datetime, *samples: str) -> None:
        self._zone = zone
        self._limit = by.astimezone(zone).replace(tzinfo=None) + timedelta(days=1)
        self._minutes: dict[str, datetime | None] = {}
        self._offsets: dict[str, timedelta] = {}
        self._before: datetime | None = None
        self._year = self._begins = _first_year(self._limit, [one for one in samples if one])
        self._turned: datetime | None = None  # the last time before the year was counted on
        self._again = 0  # 1 in the hour that comes a second time at the end of summer time

    @property
    def lasting(self) -> tuple[object, ...]:
        """What follows from the stamps so far: another clock of the same log goes on with it, if it finds the same year to begin in."""
        return self._begins, self._before, self._year, self._turned, self._again

    @lasting.setter
    def lasting(self, state: tuple[Any, ...]) -> None:
        begins, self._before, self._year, self._turned, self._again = state
        if begins != self._begins:
            raise ValueError("another year to begin in")

    def read(self, stamp: str) -> datetime | None:
        """Return the time of a stamp in UTC, or ``None`` for one that is no time."""
        ahead = self._offsets.get(stamp[-6:])
        if ahead is not None:
            try:
                return datetime.fromisoformat(stamp[:-6] + "+00:00") - ahead if ahead else datetime.fromisoformat(stamp)
            except (ValueError, OverflowError):
                return _iso(stamp, self._zone)
        if has_year(stamp):
            return self._with_offset(stamp)
        minute = self._minutes.get(stamp[:12])
        if minute is None:
            minute = self._minute(stamp[:12])
            if minute is None:
                return None
            self._minutes = {stamp[:12]: minute}  # the lines of a minute stand together
        return minute + _SECONDS[int(stamp[13:15])]

    def _with_offset(self, stamp: str) -> datetime | None:
        """Return the time of a stamp with its year, and learn its offset; the lines of a log have one, or two."""
        offset, at = stamp[-6:], _iso(stamp, self._zone)
        if at is not None and _OFFSET.fullmatch(offset) and len(self._offsets) < _MOST_OFFSETS:
            self._offsets[offset] = datetime.fromisoformat(f"2000-01-01T00:00:00{offset}").utcoffset() or timedelta()
        return at

    def _minute(self, text: str) -> datetime | None:
        found = self._in_year(f"{text}:00")
        if found is None:
            return None
        before, self._before = self._before, found
        at, again = (found.replace(tzinfo=self._zone, fold=fold) for fold in (0, 1))
        twice = at.utcoffset() != again.utcoffset()
        self._again = int(twice and (self._again == 1 or (before is not None and found < before)))
        return (again if self._again else at).astimezone(UTC)

    def _in_year(self, stamp: str) -> datetime | None:
        """Return the time of a stamp in the year that the lines before it tell."""
        found, before = _traditional(stamp, self._year), self._before
        if found is None:  # the 29th of February, after a gap
            years = (year for year in range(self._year + 1, self._year + _LEAP_YEARS) if _traditional(stamp, year) is not None)
            year = next(years, None)
            found = _traditional(stamp, year) if year is not None else None
            return self._turn(found, before) if found is not None and found <= self._limit else None
        if before is None:
            return found
        if before - found > _NEW_YEAR:
            later = _traditional(stamp, self._year + 1)
            return self._turn(later, before) if later is not None and later <= self._limit else found
        return self._back(stamp, found, before) or found

    def _turn(self, found: datetime, before: datetime | None) -> datetime:
        self._year, self._turned = found.year, before
        return found

    def _back(self, stamp: str, found: datetime, before: datetime) -> datetime | None:
        """Return the time in the year before where only a machine that did not know the time had counted the year on."""
        if self._turned is None or before - datetime(before.year, 1, 1) > _UNSET or found - before < _FAR:  # noqa: DTZ001
            return None
        earlier = _traditional(stamp, self._turned.year)
        if earlier is None or not timedelta() <= earlier - self._turned < _FAR:
            return None
        self._year, self._turned = self._turned.year, None
        return earlier


def _first_year(limit: datetime, samples: Sequence[str]) -> int:
    """Return the year of the first sample: the latest by which the last is not in the future, and all years' ends between are counted."""
    known = [one for one in samples if not one.startswith(_UNSET_CLOCK)] or list(samples)
    years = (_counted_back(known, year, limit) for year in range(limit.year, limit.year - _LEAP_YEARS, -1)) if known else iter(())
    return next((year for year in years if year is not None), limit.year)


def _counted_back(samples: Sequence[str], year: int, limit: datetime) -> int | None:
    """Return the year of the first sample where the last is of a year; ``None`` where one is no date then, or in the future."""
    later = _traditional(samples[-1], year)
    if later is None or later > limit:
        return None
    for stamp in reversed(samples[:-1]):
        earlier = _traditional(stamp, year)
        if earlier is None or earlier - later > _NEW_YEAR:
            dates = ((one, _traditional(stamp, one)) for one in range(year - 1, year - _LEAP_YEARS, -1))
            year, earlier = next(((one, date) for one, date in dates if date is not None), (year, None))
            if earlier is None:
                return None
        later = earlier
    return year


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
    try:
        return (read if read.tzinfo else read.replace(tzinfo=zone)).astimezone(UTC)
    except OverflowError:  # the first day of all, or the last
        return None


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
