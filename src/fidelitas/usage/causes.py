"""Why privilege, a password or a login was refused, counted while the actions go by."""

from dataclasses import dataclass, field
from datetime import datetime

from fidelitas.facts import Event, EventKind

__all__ = ["Cause", "Causes"]

# Reasons are the words of programs; a name that a user chose can stand in some of them.
_MOST, _LONGEST, _MOST_NAMES = 100, 80, 1000
_METHODS = frozenset({"password", "publickey", "keyboard-interactive/pam", "hostbased", "gssapi-with-mic", "none"})  # of sshd
_OTHERS = "(other reasons)"


@dataclass(slots=True)
class Cause:
    """How often something was refused for one reason, who met it, on which hosts, and when last."""

    count: int = 0
    people: set[str] = field(default_factory=set)
    hosts: set[str] = field(default_factory=set)
    last: datetime | None = None

    def include(self, other: "Cause") -> None:
        """Add what another has counted of the same reason."""
        self.count += other.count
        self.people |= other.people
        self.hosts |= other.hosts
        self.last = max((at for at in (self.last, other.last) if at is not None), default=None)


class Causes:
    """Counts by reason; `by_reason` begins with what was refused: ``login: no such account``."""

    def __init__(self) -> None:
        self.by_reason: dict[str, Cause] = {}

    def add(self, event: Event, who: str, times: int) -> None:
        """Count an event that someone was refused by, so many times."""
        if times:
            names = {who} if who else set()
            self._include(_reason(event), Cause(times, names, {event.host or event.place.subject}, event.at))

    def include(self, others: "Causes") -> None:
        """Add what others have counted."""
        for reason, cause in others.by_reason.items():
            self._include(reason, cause)

    def _include(self, reason: str, cause: Cause) -> None:
        known = reason in self.by_reason or len(self.by_reason) < _MOST
        mine = self.by_reason.setdefault(reason if known else _OTHERS, Cause())
        if len(mine.people) > _MOST_NAMES:
            cause = Cause(cause.count, set(), cause.hosts, cause.last)
        mine.include(cause)


def _reason(event: Event) -> str:
    """Return why an event was refused: sudo says of wrong passwords how many, which is counted by itself."""
    if event.kind is EventKind.LOGIN_FAILED:
        not_taken = f"{event.reason} not accepted" if event.reason in _METHODS else event.reason
        return f"login: {not_taken or 'refused'}"[:_LONGEST]
    if event.kind is EventKind.FAILED:
        return "wrong password" if "password" in event.reason or not event.reason else event.reason[:_LONGEST]
    return (event.reason or "refused")[:_LONGEST]
