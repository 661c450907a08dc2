"""Names typed at failed logins: a password is often typed where the name belongs, and must not be kept or shown.

A name is shown when an account has it: by the evidence of the host, or because its logs record that it did something.  Programs that know
say whether there is such an account; of what the others log, a name that nobody is known to have is masked.
"""

from collections.abc import Iterable
from typing import Any

from fidelitas.facts import Event, EventKind
from fidelitas.masking import is_masked
from fidelitas.text import short_host_name

__all__ = ["UNKNOWN_USER", "LoginNames"]

UNKNOWN_USER = "unknown user (masked)"
_FAILURES = frozenset({EventKind.FAILED, EventKind.LOGIN_FAILED})
# More or longer names than any host has are the work of someone who wants to fill the memory.
_MOST, _MOST_MASKED, _LONGEST = 200_000, 10_000, 256


class LoginNames:
    """The accounts of a host, as far as they are known, and what may be shown of a failed login."""

    def __init__(self, names: Iterable[str] = (), *, one_host: bool = True) -> None:
        """`one_host` says that lines without the name of a host are of the host, or the few, that others name."""
        self._one_host = one_host
        self._known = frozenset({"root", *names})
        self._seen: dict[str, set[str]] = {}  # by host, as it is written, and by its name alone
        self._count = 0
        self._masked: dict[str, int] = {}

    @property
    def lasting(self) -> tuple[object, ...]:
        """What was learned, for others of the same host."""
        return self._seen, self._count, self._masked

    @lasting.setter
    def lasting(self, learned: tuple[Any, ...]) -> None:
        self._seen, self._count, self._masked = learned

    def shown(self, event: Event) -> Event:
        """Return the event without what may be a password; of events that succeeded the names are learned."""
        if event.kind not in _FAILURES:
            host = event.host or event.place.subject
            seen = self._seen.get(host) or self._seen_on(host)
            if event.account not in seen:
                self._learn(seen, event.account)
            if event.target not in seen:
                self._learn(seen, event.target)
            return event
        if is_masked(event.target) or (event.typed and event.target and not self._has(event)):
            return event._replace(target=UNKNOWN_USER, typed=False, masked=self._number(event.target[:_LONGEST]))
        return event._replace(typed=False) if event.typed else event

    def _learn(self, seen: set[str], name: str) -> None:
        if self._count < _MOST and len(name) <= _LONGEST:
            seen.add(name)
            self._count += 1

    def _number(self, name: str) -> int:
        """Return which of the different masked names one is; all beyond the most count as one."""
        if name in self._masked or len(self._masked) < _MOST_MASKED:
            return self._masked.setdefault(name, len(self._masked) + 1)
        return _MOST_MASKED

    def _has(self, event: Event) -> bool:
        name = event.target
        seen = list(self._seen.values()) if self._one_host and not event.host else [self._seen_on(event.host or event.place.subject)]
        if name in self._known or any(name in some for some in seen):
            return True
        bare = name.rpartition("\\")[2].partition("@")[0]
        return bare != name and (bare in self._known or any(bare in some for some in seen))

    def _seen_on(self, host: str) -> set[str]:
        seen = self._seen.get(host)
        if seen is None:
            seen = self._seen.setdefault(short_host_name(host), set())
            if len(self._seen) < _MOST:
                self._seen[host] = seen
        return seen
