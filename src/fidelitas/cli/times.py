"""Times, spans of time and time zones on the command line."""

import re
from datetime import UTC, datetime, timedelta, tzinfo
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import click

from fidelitas.errors import RequestError

__all__ = ["DURATION", "reader_zone", "time_of", "zone_of"]


class Duration(click.ParamType[float]):
    """A span of time in seconds: 90s, 30m, 2h."""

    name = "TIME"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> float:
        """Return the seconds of a span; refuse anything else, and what is longer than a week."""
        found = re.fullmatch(r"(\d{1,6})([smh]?)", str(value))
        seconds = int(found[1]) * {"": 1, "s": 1, "m": 60, "h": 3600}[found[2]] if found else 0
        if not 0 < seconds <= 7 * 86400:
            self.fail(f'"{value}" is not a span of time such as 90s, 30m or 2h', param, ctx)
        return float(seconds)


DURATION = Duration()


def reader_zone() -> tzinfo:
    """Return the reader's time zone: TZ, or this machine's."""
    return LocalZone()


class LocalZone(tzinfo):
    """The zone of this process, whose offset depends on the time of the year."""

    def utcoffset(self, at: datetime | None) -> timedelta:
        """Return the offset at a time of this zone."""
        return self._local(at).utcoffset() or timedelta()

    def dst(self, at: datetime | None) -> timedelta | None:
        """Return nothing: the offset tells all."""
        return None

    def tzname(self, at: datetime | None) -> str:
        """Return the zone's name at a time of this zone."""
        return self._local(at).tzname() or ""

    def fromutc(self, at: datetime) -> datetime:
        """Return a time of UTC as one of this zone."""
        local = at.replace(tzinfo=UTC).astimezone()
        return local.replace(tzinfo=self)

    def _local(self, at: datetime | None) -> datetime:
        return (at or datetime.now()).replace(tzinfo=None).astimezone()  # noqa: DTZ005


def time_of(text: str | None, now: datetime) -> datetime | None:
    """Return a time that was asked for: ISO 8601, in the reader's zone where it names none, or relative: 7d, yesterday, last monday."""
    if text is None:
        return None
    day = _day_of(text.lower().strip(), now.astimezone())
    if day is not None:
        return day.astimezone(UTC)
    ago = re.fullmatch(r"(\d{1,5})([dhm])", text)
    if ago is not None:
        return now - int(ago[1]) * {"d": timedelta(days=1), "h": timedelta(hours=1), "m": timedelta(minutes=1)}[ago[2]]
    try:
        at = datetime.fromisoformat(text)
    except ValueError as error:
        raise RequestError(f'"{text}" is not a time', hint="Such as 2026-11-01, 2026-11-01T14:00, 7d, yesterday or last monday.") from error
    if not _YEARS[0] <= at.year <= _YEARS[1]:
        raise RequestError(f'"{text}" is out of range', hint=f"Name a year from {_YEARS[0]} to {_YEARS[1]}.")
    return at.astimezone(UTC)


_YEARS = 1970, 9998  # those that every clock here has, in every zone


_WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")


def _day_of(text: str, now: datetime) -> datetime | None:
    """Return the beginning of a day that is named by its distance: today, yesterday, last monday (never today)."""
    name = text.removeprefix("last ")
    if name in _WEEKDAYS:
        back = (now.weekday() - _WEEKDAYS.index(name)) % 7 or 7
    elif text in ("today", "yesterday"):
        back = int(text == "yesterday")
    else:
        return None
    # The beginning of that day by its own clock: it can differ by an hour from now's.
    return (now.replace(tzinfo=None) - timedelta(days=back)).replace(hour=0, minute=0, second=0, microsecond=0).astimezone()


def zone_of(text: str | None) -> tzinfo:
    """Return a time zone by its name, this machine's by default; refuse one that is not known."""
    if text is None:
        return datetime.now().astimezone().tzinfo or UTC
    try:
        return ZoneInfo(text)
    except (ZoneInfoNotFoundError, ValueError, OSError) as error:
        raise RequestError(f'there is no time zone "{text}"', hint="Give a name such as Europe/Lisbon, or UTC.") from error
