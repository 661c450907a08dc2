"""What takes the events of a log without their being yielded one by one: of a long log most say what was said before."""

from datetime import datetime
from typing import Any, Protocol

from fidelitas.facts import Event, Place
from fidelitas.languages.logs.login_names import LoginNames

__all__ = ["Aside", "Passing"]


class Aside(Protocol):
    """Takes events of one log in their order, between those that are yielded."""

    def plain(self, said: Event, /) -> Any:
        """Return what follows of what a message tells, where no event need be made of a line that says it; else ``None``."""

    def take(self, event: Event, /) -> None:
        """Take an event."""

    def take_plain(self, plain: Any, at: datetime, place: Place, line: int, pid: int | None, host: str, /) -> None:
        """Take what a line of the log that a place is in tells by a plain message."""


class Passing:
    """Hands on what is taken aside, failures without what may be a password; `ready` says whether anything is taken yet."""

    def __init__(self, aside: Aside, names: LoginNames) -> None:
        self._aside, self._names, self.ready = aside, names, False
        self.plain, self.take_plain = aside.plain, aside.take_plain

    def take(self, event: Event) -> None:
        """Take an event; of what succeeded the names were learned."""
        self._aside.take(self._names.shown(event))
