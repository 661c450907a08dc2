"""Logbooks that are kept: what the logs of a host record is read once, and of another survey the lines that were added.

What is kept is of one host, so that a new survey reads the logs of hosts that changed; of long ones also where their reading stood, from
which the next goes on.  Kept in the form of conclusions: read back as the types that it was made of, and as nothing else.
"""

from collections.abc import Callable, Container, Iterable, Mapping, Sequence
from functools import cached_property
from hashlib import blake2b
from itertools import pairwise
from typing import Protocol

from fidelitas.conclusions.rules import rules_digest
from fidelitas.conclusions.typed import FINDINGS, ConclusionError, decode, encode
from fidelitas.findings import Finding
from fidelitas.languages.logs.copies import Cut, CutMemory, Cuts
from fidelitas.logbook import EventFilter, HostLogs, Logbook, included, read_places
from fidelitas.logbook_form import form_of, kept_book

__all__ = ["LogbookMemory"]


class _Store(Protocol):
    def get(self, keys: list[bytes], /) -> Mapping[bytes, bytes]: ...
    def put(self, kept: Mapping[bytes, bytes], rules: bytes, /) -> object: ...


# Shorter logs are read from their begin sooner than it takes to find out where their reading stood.
_WORTH = 1 << 20
_Read = Callable[[Container[str]], Iterable[HostLogs]]
_Each = Callable[..., Iterable[Logbook]]


class LogbookMemory:
    """What is kept of the logs of hosts, by the digests of each host's evidence and by what is asked of them.

    `is_whole` says whether what was read was undamaged: else nothing is kept.
    """

    def __init__(self, store: _Store, evidence: Mapping[str, tuple[bytes, ...]], wanted: EventFilter, is_whole: Callable[[], bool]) -> None:
        self._store, self._evidence, self._wanted, self._is_whole = store, evidence, wanted, is_whole
        self._keys = {subject: self._key(b"logbook", subject, digests) for subject, digests in evidence.items()}
        self.worth = _WORTH

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
        for host, book in read_places(read(self.lacking()), self._wanted, None, map, 1, self):
            self._keep_book(host, book)

    def states(self, subject: str, /) -> Mapping[int, bytes]:
        """Return where the reading of a host's logs stood when they were read last."""
        key = self._key(b"where the reading stood", subject, ())
        try:
            return decode(self._store.get([key])[key], dict[int, bytes])
        except (KeyError, ConclusionError):
            return {}

    def copies(self, subject: str) -> CutMemory:
        """Return what is known of the copies of a host's logs that its evidence holds."""
        return _KnownCuts(self._store, subject, self._evidence[subject], self._is_whole)

    def book(self, read: _Read, each: _Each, readers: int) -> Logbook:
        """Return what the logs of all hosts record; `read` gives the logs of those of which nothing is kept."""
        kept = self._kept()
        lacking = {subject for subject in self._keys if subject not in kept}
        for host, book in read_places(read(lacking), self._wanted, None, each, readers, self) if lacking else ():
            kept[host.subject] = book
            self._keep_book(host, book)
        return _KeptLogbook.of(included(kept[subject] for subject in self._keys if subject in kept), self._findings)

    def _keep_book(self, host: HostLogs, book: Logbook) -> None:
        states, book.states = book.states, {}
        self._keep(self._keys[host.subject], form_of(host, book))
        if states:
            self._keep(self._key(b"where the reading stood", host.subject, ()), states)

    def _kept(self) -> dict[str, Logbook]:
        stated = self._store.get(list(self._keys.values()))
        found = {}
        for subject, key in self._keys.items():
            try:
                found[subject] = kept_book(stated[key])
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


class _KnownCuts:
    """How copies of a host's logs are cut by the next ones, kept by the digests of both: that is so whatever is collected later."""

    def __init__(self, store: _Store, subject: str, digests: Sequence[bytes], is_whole: Callable[[], bool]) -> None:
        self._store, self._is_whole = store, is_whole
        named = b"copies of logs", rules_digest(), subject.encode("utf-8", "surrogateescape")
        self._keys = [blake2b(b"\0".join((*named, *pair)), digest_size=24).digest() for pair in pairwise(digests)]

    @cached_property
    def _kept(self) -> Mapping[bytes, bytes]:
        return self._store.get(self._keys)

    def cuts(self, number: int, /) -> Cuts | None:
        """Return how a copy is cut by the next, where that is kept."""
        if number >= len(self._keys):
            return None
        try:
            return decode(self._kept[self._keys[number]], dict[str, Cut | None])
        except (KeyError, ConclusionError):
            return None

    def note(self, number: int, cuts: Cuts, /) -> None:
        """Keep how a copy is cut by the next."""
        stated = encode(cuts) if self._is_whole() else None
        if stated is not None:
            self._store.put({self._keys[number]: stated}, rules_digest())


def _stated(wanted: EventFilter) -> bytes:
    times = [at.isoformat() if at is not None else "" for at in (wanted.since, wanted.until)]
    kinds = sorted(kind.name for kind in wanted.kinds)
    return repr((wanted.person, wanted.host, wanted.command, kinds, times)).encode("utf-8", "surrogateescape")


class _KeptLogbook(Logbook):
    """A logbook whose findings are worked out once."""

    _recall: Callable[[Logbook, Callable[[], list[Finding]]], list[Finding]] = lambda _, ask: ask()

    @classmethod
    def of(cls, book: Logbook, recall: Callable[[Logbook, Callable[[], list[Finding]]], list[Finding]]) -> "_KeptLogbook":
        return cls(**{name: getattr(book, name) for name in book.__struct_fields__}, _recall=recall)

    def findings(self) -> list[Finding]:
        return self._recall(self, super().findings)
