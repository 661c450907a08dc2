"""Why privilege, a password or a login was refused, counted while the actions go by."""

from datetime import datetime
from functools import lru_cache

from msgspec import Struct, field
from msgspec.structs import replace

from fidelitas.facts import Event, EventKind

__all__ = ["METHODS", "Cause", "Causes"]

# Reasons are the words of programs; a name that a user chose can stand in some of them.
_MOST, _LONGEST, _MOST_NAMES = 100, 80, 1000
# How sshd is logged in to; "none" is how a client asks which of them there are.
METHODS = frozenset({"password", "publickey", "keyboard-interactive/pam", "hostbased", "gssapi-with-mic"})
_OTHERS = "(other reasons)"


class Cause(Struct):
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

    __slots__ = ("by_reason",)

    def __init__(self) -> None:
        self.by_reason: dict[str, Cause] = {}

    def add(self, event: Event, who: str, times: int) -> None:
        """Count an event that someone was refused by, so many times."""
        if not times:
            return
        cause = self._of(_reason(event.kind, event.reason))
        cause.count += times
        if who and len(cause.people) <= _MOST_NAMES:
            cause.people.add(who)
        cause.hosts.add(event.host or event.place.subject)
        at = event.at
        if at is not None and (cause.last is None or at > cause.last):
            cause.last = at

    def include(self, others: "Causes") -> None:
        """Add what others have counted."""
        for reason, other in others.by_reason.items():
            mine = self._of(reason)
            mine.include(other if len(mine.people) <= _MOST_NAMES else replace(other, people=set()))

    def _of(self, reason: str) -> Cause:
        cause = self.by_reason.get(reason)
        if cause is None:
            cause = self.by_reason.setdefault(reason if len(self.by_reason) < _MOST else _OTHERS, Cause())
        return cause


@lru_cache(maxsize=1000)
def _reason(kind: EventKind, stated: str) -> str:
    """Return why an event was refused: sudo says of wrong passwords how many, which is counted by itself."""
    if kind is EventKind.LOGIN_FAILED:
        not_taken = f"{stated} not accepted" if stated in METHODS or stated == "none" else stated
        return f"login: {not_taken or 'refused'}"[:_LONGEST]
    if kind is EventKind.FAILED:
        return "wrong password" if "password" in stated or not stated else stated[:_LONGEST]
    return (stated or "refused")[:_LONGEST]
