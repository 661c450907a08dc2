"""The form in which a logbook is kept, and goes from one process to another: read back as the types that it was made of."""

import os
from collections import Counter
from collections.abc import Callable, Iterable
from datetime import UTC, datetime, tzinfo
from typing import Any
from zoneinfo import ZoneInfo

import msgspec

from fidelitas.conclusions.typed import ConclusionError, decode, encode
from fidelitas.facts import Event, Gap
from fidelitas.languages.logs.reading import Cover
from fidelitas.logbook import HostLogs, Logbook, LogTask
from fidelitas.usage import (
    AttributedEvent,
    Cause,
    Grants,
    HostUse,
    Latest,
    LogState,
    Notable,
    Packed,
    People,
    PersonUse,
    Session,
    Unusual,
)  # fmt: skip

__all__ = ["LogbookForm", "book_of", "form_of", "kept_book", "packed"]

_Read = Callable[[LogTask], Logbook]


def packed(each: Callable[..., Iterable[Logbook | bytes]]) -> Callable[[_Read, Iterable[LogTask]], Iterable[Logbook]]:
    """Return how logs are read by other processes so that what they answer comes in the form: a fifth of the time that pickling takes."""
    return lambda read, tasks: map(_unpacked, each(_Packing(read), tasks))


class _Packing:
    """Reads logs, and packs what they record where another process asks."""

    def __init__(self, read: _Read) -> None:
        self._read, self._process = read, os.getpid()

    def __call__(self, task: LogTask) -> Logbook | bytes:
        book = self._read(task)
        form = None if os.getpid() == self._process else form_of(task.host, book)
        return (encode(form) if form is not None else None) or book


def _unpacked(book: Logbook | bytes) -> Logbook:
    return book_of(decode(book, LogbookForm)) if isinstance(book, bytes) else book


_Chunks = tuple[int, list[bytes]]  # of what is packed


class _UseForm(msgspec.Struct, array_like=True):
    """The use of privilege on a host after its last event: what is needed only while events come is left out."""

    name: str
    host: str
    zone: str
    events: int
    sessions: _Chunks
    left_out: tuple[int, int]
    notable: list[tuple[Notable, _Chunks]]
    counted: list[tuple[Notable, int]]
    counted_of: list[tuple[Notable, str, int]]
    users: set[str]
    unusual: Unusual
    grants: Grants
    logs: list[LogState]
    gone: list[Event]
    until: datetime | None
    entitled: frozenset[str] | None


class LogbookForm(msgspec.Struct, array_like=True):
    uses: list[_UseForm]
    people: dict[str, PersonUse]
    causes: dict[str, Cause]
    everyone: set[str]
    records: int
    unknown: dict[str, int]
    gaps: list[Gap]
    covers: list[Cover]
    gone: list[Event]
    latest: dict[str, Latest]
    states: dict[int, bytes]


def form_of(host: HostLogs, book: Logbook) -> LogbookForm | None:
    """Return a book in the form, or ``None`` where files could not be read: that is said each time, and tried again."""
    zone = _zone_name(host.zone)
    if book.unread or zone is None or any(use.troubles for use in book.hosts.values()):
        return None
    uses = [_use_form(name, use, zone) for name, use in book.hosts.items()]
    stated = [use for use in uses if use is not None]
    return (
        None
        if len(stated) < len(uses)
        else LogbookForm(
            uses=stated,
            people=book.people.by_name,
            causes=book.people.causes.by_reason,
            everyone=book.everyone,
            records=book.records,
            unknown=book.unknown,
            gaps=book.gaps,
            covers=book.covers,
            gone=book.gone,
            latest=book.latest,
            states=book.states,
        )
    )


def _use_form(name: str, use: HostUse, zone: str) -> _UseForm | None:
    sessions, notable = use.sessions.chunks(), {sort: kept.chunks() for sort, kept in use.notable.items()}
    packed = [(sort, chunks) for sort, chunks in notable.items() if chunks is not None]
    if sessions is None or len(packed) < len(notable):
        return None
    return _UseForm(
        name=name,
        host=use.host,
        zone=zone,
        events=use.events,
        sessions=sessions,
        left_out=(use.sessions_left_out, use.shells_left_out),
        notable=packed,
        counted=list(use.counted.items()),
        counted_of=[(sort, person, count) for (sort, person), count in use.counted_of.items()],
        users=use.users,
        unusual=use.unusual,
        grants=use.grants,
        logs=use.logs,
        gone=use.gone,
        until=use.until,
        entitled=use.entitled,
    )


def book_of(form: LogbookForm) -> Logbook:
    """Return the book of a form."""
    book = Logbook(records=form.records, unknown=Counter(form.unknown), gaps=form.gaps, covers=form.covers, gone=form.gone)
    book.people, book.everyone, book.latest, book.states = People(), form.everyone, form.latest, form.states
    book.people.by_name, book.people.causes.by_reason = form.people, form.causes
    book.hosts = {one.name: _use(one) for one in form.uses}
    return book


def kept_book(stated: bytes) -> Logbook:
    """Return the book that was kept in the form; raises `ConclusionError`."""
    book = book_of(decode(stated, LogbookForm))
    uses = book.hosts.values()
    parts: list[Packed[Any]] = [*(use.sessions for use in uses), *(kept for use in uses for kept in use.notable.values())]
    if not all(kept.is_sound() for kept in parts):
        raise ConclusionError("what is packed is not of the form")
    return book


def _use(form: _UseForm) -> HostUse:
    use = HostUse(form.host, ZoneInfo(form.zone) if form.zone else UTC)
    use.events, use.users = form.events, form.users
    use.sessions = Packed.of_chunks(Session, *form.sessions)
    use.sessions_left_out, use.shells_left_out = form.left_out
    use.notable.update({sort: Packed.of_chunks(AttributedEvent, *chunks) for sort, chunks in form.notable})
    use.counted.update(dict(form.counted))
    use.counted_of.update({(sort, person): count for sort, person, count in form.counted_of})
    use.unusual = form.unusual
    use.grants, use.logs, use.gone, use.until, use.entitled = form.grants, form.logs, form.gone, form.until, form.entitled
    return use


def _zone_name(zone: tzinfo) -> str | None:
    return zone.key if isinstance(zone, ZoneInfo) else "" if zone is UTC else None
