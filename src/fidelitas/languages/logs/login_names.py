"""Names typed at failed logins: a password is often typed where the name belongs, and must not be kept or shown.

A name is shown when an account has it: by the evidence of the host, or because the logs record that it did something.  Programs that know
say whether there is such an account; of what the others log, a name that nobody is known to have is masked.
"""

from collections.abc import Iterable

from fidelitas.facts import Event, EventKind
from fidelitas.masking import is_masked

__all__ = ["UNKNOWN_USER", "LoginNames"]

UNKNOWN_USER = "unknown user (masked)"
_FAILURES = frozenset({EventKind.FAILED, EventKind.LOGIN_FAILED})
# More or longer names than any host has are the work of someone who wants to fill the memory.
_MOST, _MOST_MASKED, _LONGEST = 200_000, 10_000, 256


class LoginNames:
    """The accounts of a host, as far as they are known, and what may be shown of a failed login."""

    def __init__(self, names: Iterable[str] = ()) -> None:
        self._known = {"root", *names}
        self._masked: dict[str, int] = {}

    def shown(self, event: Event) -> Event:
        """Return the event without what may be a password; of events that succeeded the names are learned."""
        if event.kind not in _FAILURES:
            known = self._known
            for name in (event.account, event.target):
                if name not in known and len(known) < _MOST and len(name) <= _LONGEST:
                    known.add(name)
            return event
        if is_masked(event.target) or (event.typed and event.target and not self._has(event.target)):
            return event._replace(target=UNKNOWN_USER, typed=False, masked=self._number(event.target[:_LONGEST]))
        return event._replace(typed=False) if event.typed else event

    def _number(self, name: str) -> int:
        """Return which of the different masked names one is; all beyond the most count as one."""
        if name in self._masked or len(self._masked) < _MOST_MASKED:
            return self._masked.setdefault(name, len(self._masked) + 1)
        return _MOST_MASKED

    def _has(self, name: str) -> bool:
        return name in self._known or name.rpartition("\\")[2].partition("@")[0] in self._known
