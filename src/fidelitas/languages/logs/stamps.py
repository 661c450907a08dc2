"""Stamps of many lines at once, in columns of numbers: which of them are of a frequent form, and the times that they tell by themselves.

Times are whole microseconds since 1970 (UTC), as integers; needs NumPy.
"""

from collections.abc import Callable
from datetime import UTC, date, datetime, timedelta
from typing import Any

__all__ = ["ISO_LENGTHS", "NO_TIME", "TRADITIONAL_LENGTH", "are_traditional", "at_of", "microseconds", "times_by_minutes", "times_of"]

NO_TIME = -(1 << 62)
TRADITIONAL_LENGTH = 15
_SECONDS_SIGN = 12  # where the colon before the seconds stands in a traditional stamp
_SECOND = 1_000_000
_START, _FIRST_DAY = datetime(1970, 1, 1, tzinfo=UTC), date(1970, 1, 1).toordinal()
_EXACT = 1 << 52  # up to here a fraction tells microseconds apart
_YEARS = 1970, 9998
_MONTHS = tuple("JanFebMarAprMayJunJulAugSepOctNovDec"[at : at + 3].encode() for at in range(0, 36, 3))
_UTC_LENGTHS = {20: False, 27: True}  # with "Z" for the zone: whether microseconds stand there
_OFFSET_LENGTHS = {25: False, 32: True}
ISO_LENGTHS = frozenset(_UTC_LENGTHS | _OFFSET_LENGTHS)
_SIGNS = ((4, b"-"), (7, b"-"), (10, b"T"), (13, b":"), (16, b":"))
_FIELDS = ((0, 4), (5, 7), (8, 10), (11, 13), (14, 16), (17, 19))
_MOST = (_YEARS[1], 12, 31, 23, 59, 59)
_FRACTION = 20, 26
_OFFSET_SIGNS = b"+-"
_MOST_OFFSET = (23, 59)


def microseconds(at: datetime) -> int:
    """Return a time as a number."""
    return (at - _START) // timedelta(microseconds=1)


def at_of(number: int) -> datetime:
    """Return the time that a number is, in UTC."""
    if 0 <= number < _EXACT:
        return datetime.fromtimestamp(number / _SECOND, UTC)  # rounded to whole microseconds, in a third of the time
    return _START + timedelta(microseconds=number)


def times_of(numpy: Any, content: Any, begins: Any, lengths: Any) -> Any:
    """Return the times of stamps of ISO 8601 as an array; `NO_TIME` of those of rarer forms, and of those that are not a time.

    `content` are bytes in which stamps begin at some places.  The frequent forms are ``2026-11-01T04:05:06``, perhaps with six digits
    behind, and ``Z`` or an offset such as ``+01:00``.
    """
    found = numpy.full(len(begins), NO_TIME)
    for length in ISO_LENGTHS:
        rows = numpy.flatnonzero(lengths == length)
        if len(rows):
            found[rows] = _alike(numpy, _parts(numpy, content, begins[rows], length), length)
    return found


def _parts(numpy: Any, content: Any, begins: Any, length: int) -> Any:
    """Return as many bytes from some places on, in rows."""
    return content[begins[:, None] + numpy.arange(length)]


def _alike(numpy: Any, text: Any, length: int) -> Any:
    """Return the times of stamps of one length."""
    good = numpy.ones(len(text), bool)
    for at, sign in _SIGNS:
        good &= text[:, at] == sign[0]
    year, month, day, hour, minute, second = (_number(numpy, text, field, good) for field in _FIELDS)
    for number, most in zip((year, month, day, hour, minute, second), _MOST, strict=True):
        good &= number <= most
    good &= (year >= _YEARS[0]) & (month >= 1) & (day >= 1)
    days = _days(numpy, year * 10_000 + month * 100 + day, good)
    times = (((days * 24 + hour) * 60 + minute) * 60 + second) * _SECOND
    if _UTC_LENGTHS.get(length) or _OFFSET_LENGTHS.get(length):
        good &= text[:, _FRACTION[0] - 1] == b"."[0]
        times += _number(numpy, text, _FRACTION, good)
    times -= _ahead(numpy, text, good, length)
    return numpy.where(good, times, NO_TIME)


def _number(numpy: Any, text: Any, field: tuple[int, int], good: Any) -> Any:
    """Return what the digits of a field are worth; where they are none it is not good."""
    worth = numpy.zeros(len(text), numpy.int64)
    for at in range(*field):
        digit = text[:, at] - b"0"[0]
        good &= digit <= 9
        worth = worth * 10 + digit
    return worth


def _days(numpy: Any, dates: Any, good: Any) -> Any:
    """Return the days since 1970 of dates, as 20261101; where a month has no such day it is not good."""
    different, which = numpy.unique(numpy.where(good, dates, 0), return_inverse=True)
    days = [_day(one) for one in different.tolist()]
    good &= numpy.array([day is not None for day in days])[which]
    return numpy.array([day or 0 for day in days])[which]


def _day(written: int) -> int | None:
    try:
        return date(written // 10_000, written // 100 % 100, written % 100).toordinal() - _FIRST_DAY
    except ValueError:
        return None


def _ahead(numpy: Any, text: Any, good: Any, length: int) -> Any:
    """Return how far the clocks of stamps are ahead of UTC."""
    if length in _UTC_LENGTHS:
        good &= text[:, -1] == b"Z"[0]
        return 0
    plus, minus = (text[:, -6] == sign for sign in _OFFSET_SIGNS)
    good &= (plus | minus) & (text[:, -3] == b":"[0])
    hours, minutes = (_number(numpy, text, field, good) for field in ((length - 5, length - 3), (length - 2, length)))
    good &= (hours <= _MOST_OFFSET[0]) & (minutes <= _MOST_OFFSET[1])
    return numpy.where(minus, -1, 1) * (hours * 60 + minutes) * 60 * _SECOND


def are_traditional(numpy: Any, content: Any, begins: Any) -> Any:
    """Return at which of some places of bytes a stamp such as ``Nov  1 04:05:06`` stands, as an array."""
    text = _parts(numpy, content, begins, TRADITIONAL_LENGTH)
    letters = text[:, :3].astype(numpy.int64)
    good = numpy.isin((letters[:, 0] << 16) | (letters[:, 1] << 8) | letters[:, 2], [int.from_bytes(month) for month in _MONTHS])
    for at, sign in ((3, b" "), (6, b" "), (9, b":"), (12, b":")):
        good &= text[:, at] == sign[0]
    tens = text[:, 4] == b" "[0]
    for at in (5, 7, 8, 10, 11, 13, 14):
        good &= text[:, at] - b"0"[0] <= 9
    return good & (tens | (text[:, 4] - b"0"[0] <= 9))


def times_by_minutes(numpy: Any, content: Any, begins: Any, read: Callable[[str], datetime | None]) -> Any:
    """Return the times of traditional stamps, which are in the order of their lines, as an array: of each minute the first is `read`."""
    text = _parts(numpy, content, begins, TRADITIONAL_LENGTH)
    minutes, tens, ones = text[:, :_SECONDS_SIGN], text[:, _SECONDS_SIGN + 1], text[:, _SECONDS_SIGN + 2]
    seconds = ((tens - b"0"[0]).astype(numpy.int64) * 10 + (ones - b"0"[0])) * _SECOND
    turns = numpy.append(0, numpy.flatnonzero((minutes[1:] != minutes[:-1]).any(axis=1)) + 1)
    first = [read(bytes(text[turn]).decode()) for turn in turns.tolist()]
    times = numpy.array([NO_TIME if at is None else microseconds(at) for at in first])
    of_minute = numpy.repeat(numpy.arange(len(turns)), numpy.diff(numpy.append(turns, len(text))))
    return numpy.where(times[of_minute] == NO_TIME, NO_TIME, times[of_minute] - seconds[turns][of_minute] + seconds)
