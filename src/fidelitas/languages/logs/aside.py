"""What takes the events of a log without their being yielded one by one: of a long log most say what was said before."""

from datetime import datetime
from typing import Any, Protocol

from fidelitas.facts import Event, Place

__all__ = ["Aside"]


class Aside(Protocol):
    """Takes events of one log in their order, between those that are yielded; `ready` says whether it does."""

    ready: bool

    def plain(self, said: Event, /) -> Any:
        """Return what follows of what a message tells, where no event need be made of a line that says it; else ``None``."""

    def take(self, event: Event, /) -> None:
        """Take an event."""

    def take_plain(self, plain: Any, at: datetime, place: Place, line: int, pid: int | None, host: str, /) -> None:
        """Take what a line of the log that a place is in tells by a plain message."""
