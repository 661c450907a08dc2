"""What was concluded from logs: findings, how rights came about, last logins; by the hosts that were asked about, and all surveys.

A further survey, or another host, is another key: then what is kept of each host's logs is put together anew (`logbook_memory`).
"""

from collections.abc import Callable, Iterable, Mapping
from datetime import datetime
from hashlib import blake2b
from typing import Protocol, TypeVar

from fidelitas.conclusions.rules import rules_digest
from fidelitas.conclusions.typed import FINDINGS, ConclusionError, decode, encode
from fidelitas.findings import Finding
from fidelitas.usage import Grants

__all__ = ["UseMemory"]

T = TypeVar("T")
_LOGINS = dict[tuple[str, str], datetime]


class _Store(Protocol):
    def get(self, keys: list[bytes], /) -> Mapping[bytes, bytes]: ...
    def put(self, kept: Mapping[bytes, bytes], rules: bytes, /) -> object: ...


class UseMemory:
    """What is kept of some hosts' logs by a `mark` of all evidence; `is_whole` says whether what was read was undamaged."""

    def __init__(self, store: _Store, mark: bytes, hosts: Iterable[str], is_whole: Callable[[], bool]) -> None:
        self._store, self._is_whole = store, is_whole
        digest = blake2b(rules_digest() + mark, digest_size=24)
        for host in sorted(hosts):
            digest.update(host.encode("utf-8", "surrogateescape") + b"\0")
        self._basis = digest.digest()

    def findings(self, ask: Callable[[], list[Finding]]) -> list[Finding]:
        """Return the findings about the use of privilege, by asking where they are not kept."""
        return list(self._kept(b"findings", FINDINGS, lambda: tuple(ask())))

    def grants(self, ask: Callable[[], dict[str, Grants]]) -> dict[str, Grants]:
        """Return how rights came about, host by host, by asking where that is not kept."""
        return self._kept(b"grants", dict[str, Grants], ask)

    def last_logins(self, ask: Callable[[], _LOGINS]) -> _LOGINS:
        """Return the last login of each account, by asking where that is not kept."""
        return self._kept(b"last-logins", _LOGINS, ask)

    def _kept(self, what: bytes, form: type[T], ask: Callable[[], T]) -> T:
        key = blake2b(self._basis + what, digest_size=24).digest()
        content = self._store.get([key]).get(key)
        if content is not None:
            try:
                return decode(content, form)
            except ConclusionError:
                pass
        found = ask()
        stated = encode(found) if self._is_whole() else None
        if stated is not None:
            self._store.put({key: stated}, rules_digest())
        return found
