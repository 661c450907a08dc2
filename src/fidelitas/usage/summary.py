"""What a person did with privilege, counted."""

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from fidelitas.facts import EventKind
from fidelitas.usage.persons import Deed, Ground, is_shell

__all__ = ["PersonUse", "summed_up"]

# PAM tells of the first wrong password of a try, without the command, before sudo sums all of them up: the two lines are this close.
_SAME_TRY = timedelta(seconds=5)


@dataclass(slots=True)
class PersonUse:
    """One person on all hosts: numbers of events, and when the first and the last of them were."""

    person: str
    hosts: set[str] = field(default_factory=set)
    used: int = 0
    refused: int = 0
    failed: int = 0  # wrong passwords
    shells: int = 0  # uses that gave a shell
    changes: int = 0  # of accounts and groups
    doubtful: int = 0  # lines that may be forged, which count as nothing else
    commands: Counter[str] = field(default_factory=Counter)
    first: datetime | None = None
    last: datetime | None = None


def summed_up(deeds: Iterable[Deed]) -> list[PersonUse]:
    """Return what each person did, the most active first; what can be several persons' is nobody's here."""
    people: dict[str, PersonUse] = {}
    last_failure: dict[tuple[str, str], datetime] = {}
    for deed in deeds:
        event = deed.event
        if len(deed.persons) != 1 or event.kind in (EventKind.OPENED, EventKind.CLOSED, EventKind.LOG_IN, EventKind.LOG_IN_FAILED):
            continue
        use = people.setdefault(deed.persons[0], PersonUse(deed.persons[0]))
        use.hosts.add(event.host)
        if event.at is not None:
            use.first = min(use.first or event.at, event.at)
            use.last = max(use.last or event.at, event.at)
        _count(use, deed, last_failure)
    return sorted(people.values(), key=lambda use: (-use.used - use.refused - use.failed, use.person))


def _count(use: PersonUse, deed: Deed, last_failure: dict[tuple[str, str], datetime]) -> None:
    event = deed.event
    if event.doubt:
        use.doubtful += 1
    elif event.kind is EventKind.USED and deed.ground in (Ground.NAMED, Ground.COMMAND, Ground.LOG_IN_NAME):
        use.used += 1
        use.shells += is_shell(event)
        use.commands[event.command.partition(" ")[0] or event.program] += 1
    elif event.kind is EventKind.REFUSED:
        use.refused += 1
    elif event.kind is EventKind.CHANGED:
        use.changes += 1
    elif event.kind is EventKind.FAILED:
        key = (event.host, use.person)
        before = last_failure.pop(key, None)
        told = bool(event.command) and before is not None and event.at is not None and event.at - before <= _SAME_TRY
        use.failed += max(event.count - 1, 0) if told else event.count
        if not event.command and event.at is not None:
            last_failure[key] = event.at
