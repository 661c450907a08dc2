"""Uses of sudo gathered by what was used: which account ran which command as whom, how often, on which days, with a terminal or without."""

from collections.abc import Iterable, Sequence
from datetime import date, datetime

from msgspec import Struct, field

from fidelitas.facts import Event, EventKind
from fidelitas.languages.logs.sudo_lines import logged_words
from fidelitas.masking import is_masked
from fidelitas.replay import NO_COMMANDS

__all__ = ["Use", "gather_uses"]


class Use(Struct):
    """Uses of one host that are the same but for their time.

    `without_terminal` counts those that sudo logged without a terminal, at which nobody can type a password.
    """

    host: str
    account: str
    target: str
    group: str
    command: str
    doubt: str = ""  # why the lines should not be believed as they stand
    events: list[Event] = field(default_factory=list)
    without_terminal: int = 0

    @property
    def count(self) -> int:
        """How many uses these are."""
        return len(self.events)

    @property
    def last(self) -> Event:
        """The latest."""
        return self.events[-1]

    @property
    def days(self) -> set[date]:
        """The days of use."""
        return {event.at.date() for event in self.events if event.at is not None}

    @property
    def times(self) -> list[datetime]:
        """The times of use that are known."""
        return [event.at for event in self.events if event.at is not None]

    @property
    def words(self) -> tuple[str, ...]:
        """The command as a list of words."""
        return logged_words(self.command)

    @property
    def path(self) -> str:
        """The program, as sudo logged it; ``sudoedit`` for that."""
        return self.words[0]

    @property
    def arguments(self) -> str:
        """The arguments as sudo matches them: joined with blanks."""
        return " ".join(self.words[1:])

    @property
    def masked(self) -> bool:
        """Whether part of the command is a secret that was masked, so that it is not known in full."""
        return is_masked(self.command)


def gather_uses(events: Iterable[Event]) -> list[Use]:
    """Return the uses of sudo that were allowed, gathered; what asks sudo itself is left out."""
    found: dict[tuple[str, str, str, str, str, str], Use] = {}
    for event in events:
        if event.kind is EventKind.USED and event.program == "sudo" and event.command not in NO_COMMANDS:
            key = (event.host, event.account, event.target, event.group, event.command, event.doubt)
            use = found.setdefault(key, Use(*key))
            use.events.append(event)
            use.without_terminal += not event.terminal
    return list(found.values())


def span_of(uses: Sequence[Use]) -> tuple[datetime, datetime] | None:
    """Return from when to when privilege was used."""
    times = [at for use in uses for at in use.times]
    return (min(times), max(times)) if times else None
