"""Logbooks that are kept: what the logs of a host record is read once, and again when its evidence is another.

What is kept is of one host, so that a new survey reads the logs of hosts that changed.  Kept in the form of conclusions: read back as the
types that it was made of, and as nothing else.
"""

from collections import Counter
from collections.abc import Callable, Container, Iterable, Mapping
from dataclasses import dataclass, fields, replace
from datetime import UTC, datetime, tzinfo
from hashlib import blake2b
from typing import Protocol
from zoneinfo import ZoneInfo

import msgspec

from fidelitas.conclusions.rules import rules_digest
from fidelitas.conclusions.typed import FINDINGS, ConclusionError, decode, encode
from fidelitas.facts import Event, Gap, Place
from fidelitas.findings import Finding
from fidelitas.languages.logs.reading import Cover
from fidelitas.logbook import EventFilter, HostLogs, Logbook, included, read_places
from fidelitas.usage import AttributedEvent, Cause, Failures, First, Grants, HostUse, LogState, Notable, People, PersonUse, Session

__all__ = ["LogbookMemory"]


class _Store(Protocol):
    def get(self, keys: list[bytes], /) -> Mapping[bytes, bytes]: ...
    def put(self, kept: Mapping[bytes, bytes], rules: bytes, /) -> None: ...


_Read = Callable[[Container[str]], Iterable[HostLogs]]
_Each = Callable[..., Iterable[Logbook]]


class LogbookMemory:
    """What is kept of the logs of hosts, by the digests of each host's evidence and by what is asked of them.

    `is_whole` says whether what was read was undamaged: else nothing is kept.
    """

    def __init__(self, store: _Store, evidence: Mapping[str, tuple[bytes, ...]], wanted: EventFilter, is_whole: Callable[[], bool]) -> None:
        self._store, self._wanted, self._is_whole = store, wanted, is_whole
        self._keys = {subject: self._key(b"logbook", subject, digests) for subject, digests in evidence.items()}

    def _key(self, what: bytes, subject: str, digests: Iterable[bytes]) -> bytes:
        digest = blake2b(rules_digest(), digest_size=24)
        digest.update(b"\0".join((what, subject.encode("utf-8", "surrogateescape"), _stated(self._wanted), *digests)))
        return digest.digest()

    def lacking(self) -> set[str]:
        """Return the hosts of which nothing is kept."""
        there = self._store.get(list(self._keys.values()))
        return {subject for subject, key in self._keys.items() if key not in there}

    def keep(self, read: _Read) -> None:
        """Read the logs of hosts of which nothing is kept, one after another, and keep what they record."""
        for host, book in read_places(read(self.lacking()), self._wanted, None, map, 1):
            self._keep(self._keys[host.subject], _form(host, book))

    def book(self, read: _Read, each: _Each, readers: int) -> Logbook:
        """Return what the logs of all hosts record; `read` gives the logs of those of which nothing is kept."""
        kept = self._kept()
        lacking = {subject for subject in self._keys if subject not in kept}
        for host, book in read_places(read(lacking), self._wanted, None, each, readers) if lacking else ():
            kept[host.subject] = book
            self._keep(self._keys[host.subject], _form(host, book))
        return _KeptLogbook.of(included(kept[subject] for subject in self._keys if subject in kept), self._findings)

    def _kept(self) -> dict[str, Logbook]:
        stated = self._store.get(list(self._keys.values()))
        found = {}
        for subject, key in self._keys.items():
            try:
                found[subject] = _book(decode(stated[key], _Form))
            except (KeyError, ConclusionError):
                continue
        return found

    def _findings(self, book: Logbook, ask: Callable[[], list[Finding]]) -> list[Finding]:
        """Return the findings of a whole book, kept unless a check failed: that must be said each time."""
        key = self._key(b"findings of logbooks", "", self._keys.values())
        try:
            return list(decode(self._store.get([key])[key], FINDINGS))
        except (KeyError, ConclusionError):
            found = ask()
            self._keep(key, None if any(use.troubles for use in book.hosts.values()) else tuple(found))
            return found

    def _keep(self, key: bytes, value: object) -> None:
        stated = encode(value) if value is not None and self._is_whole() else None
        if stated is not None:
            self._store.put({key: stated}, rules_digest())


def _stated(wanted: EventFilter) -> bytes:
    times = [at.isoformat() if at is not None else "" for at in (wanted.since, wanted.until)]
    kinds = sorted(kind.name for kind in wanted.kinds)
    return repr((wanted.person, wanted.host, wanted.command, kinds, times)).encode("utf-8", "surrogateescape")


@dataclass(slots=True)
class _KeptLogbook(Logbook):
    """A logbook whose findings are worked out once."""

    _recall: Callable[[Logbook, Callable[[], list[Finding]]], list[Finding]] = lambda _, ask: ask()

    @classmethod
    def of(cls, book: Logbook, recall: Callable[[Logbook, Callable[[], list[Finding]]], list[Finding]]) -> "_KeptLogbook":
        return cls(**{one.name: getattr(book, one.name) for one in fields(book)}, _recall=recall)

    def findings(self) -> list[Finding]:
        return self._recall(self, super(_KeptLogbook, self).findings)


# -- the form -----------------------------------------------------------------------------------------------------------------------------


class _UseForm(msgspec.Struct, array_like=True):
    """The use of privilege on a host after its last event: what is needed only while events come is left out."""

    name: str
    host: str
    zone: str
    people: dict[str, PersonUse]
    causes: dict[str, Cause]
    events: int
    sessions: list[Session]
    notable: list[tuple[Notable, list[AttributedEvent]]]
    counted: list[tuple[Notable, int]]
    counted_of: list[tuple[Notable, str, int]]
    active: Mapping[str, dict[int, int]]
    active_at: list[tuple[str, int, str, Place]]
    failures: dict[str, dict[int, Failures]]
    sources: dict[int, dict[str, Failures]]
    firsts: list[First]
    grants: Grants
    logs: list[LogState]
    gone: list[Event]
    until: datetime | None
    entitled: frozenset[str] | None


class _Form(msgspec.Struct, array_like=True):
    uses: list[_UseForm]
    people: dict[str, PersonUse]
    causes: dict[str, Cause]
    records: int
    unknown: dict[str, int]
    gaps: list[Gap]
    covers: list[Cover]
    gone: list[Event]


def _form(host: HostLogs, book: Logbook) -> _Form | None:
    """Return a book in the form, or ``None`` where files could not be read: that is said each time, and tried again."""
    zone = _zone_name(host.zone)
    if book.unread or zone is None or any(use.troubles for use in book.hosts.values()):
        return None
    return _Form(
        uses=[_use_form(name, use, zone) for name, use in book.hosts.items()],
        people=book.people.by_name,
        causes=book.people.causes.by_reason,
        records=book.records,
        unknown=book.unknown,
        gaps=book.gaps,
        covers=book.covers,
        gone=book.gone,
    )


def _use_form(name: str, use: HostUse, zone: str) -> _UseForm:
    return _UseForm(
        name=name,
        host=use.host,
        zone=zone,
        people=use.people.by_name,
        causes=use.people.causes.by_reason,
        events=use.events,
        sessions=[replace(session, keys=[]) for session in use.sessions],
        notable=list(use.notable.items()),
        counted=list(use.counted.items()),
        counted_of=[(sort, person, count) for (sort, person), count in use.counted_of.items()],
        active=use.active,
        active_at=[(person, hour, command, place) for (person, hour), (command, place) in use.active_at.items()],
        failures=use.failures,
        sources=use.sources,
        firsts=use.firsts,
        grants=use.grants,
        logs=use.logs,
        gone=use.gone,
        until=use.until,
        entitled=use.entitled,
    )


def _book(form: _Form) -> Logbook:
    book = Logbook(records=form.records, unknown=Counter(form.unknown), gaps=form.gaps, covers=form.covers, gone=form.gone)
    book.people = _people(form.people, form.causes)
    book.hosts = {one.name: _use(one) for one in form.uses}
    return book


def _use(form: _UseForm) -> HostUse:
    use = HostUse(form.host, ZoneInfo(form.zone) if form.zone else UTC)
    use.people = _people(form.people, form.causes)
    use.notable.update(form.notable)
    use.counted.update(dict(form.counted))
    use.counted_of.update({(sort, person): count for sort, person, count in form.counted_of})
    use.active = {person: Counter(hours) for person, hours in form.active.items()}
    use.active_at = {(person, hour): (command, place) for person, hour, command, place in form.active_at}
    use.events, use.sessions, use.failures, use.sources = form.events, form.sessions, form.failures, form.sources
    use.firsts, use.grants, use.logs, use.gone = form.firsts, form.grants, form.logs, form.gone
    use.until, use.entitled = form.until, form.entitled
    return use


def _people(by_name: dict[str, PersonUse], causes: dict[str, Cause]) -> People:
    people = People()
    people.by_name, people.causes.by_reason = by_name, causes
    return people


def _zone_name(zone: tzinfo) -> str | None:
    return zone.key if isinstance(zone, ZoneInfo) else "" if zone is UTC else None
