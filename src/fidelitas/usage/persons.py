"""Who stood behind an event: the first person in the chain of sudo, su and shells, as far as the logs tell, and how surely.

What root does after ``sudo -i`` bears root's name alone.  It is tied to a person by what the line itself says (the log-in name that PAM
tells), by a command that started it the moment before, or by the one person who had a root shell open.
"""

from collections.abc import Container, Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import Enum

from fidelitas.facts import Event, EventKind

__all__ = ["Deed", "Ground", "deeds_of", "is_shell"]

# A command and what it does are logged within moments of each other.
_MOMENT = timedelta(seconds=3)
_SHELLS = frozenset({"sh", "bash", "dash", "zsh", "ksh", "mksh", "csh", "tcsh", "fish", "su", "machinectl", "screen", "tmux"})
_ROOT = "root"


class Ground(Enum):
    """On what an event is tied to a person, the surest first."""

    NAMED = "the line names the account"
    LOG_IN_NAME = "PAM tells the log-in name of the session"
    COMMAND = "the person ran the command that did it"
    ONLY_SHELL = "nobody else had a root shell open"
    SEVERAL = "several had a root shell open"
    NOBODY = "nothing in the logs tells"


@dataclass(frozen=True, slots=True, kw_only=True)
class Deed:
    """An event with the persons who can have stood behind it: one, several, or none."""

    event: Event
    persons: tuple[str, ...]
    ground: Ground


@dataclass(frozen=True, slots=True)
class _Shell:
    """A root shell that is open: by whom, since when, and by the process that opened it, where the log tells one."""

    person: str
    since: datetime
    pid: int | None


def is_shell(event: Event) -> bool:
    """Return whether an event is a use that gives an interactive shell, which ends attribution by name."""
    if event.kind is not EventKind.USED or event.program not in ("sudo", "su", "doas", "pkexec"):
        return False
    words = event.command.split()
    name = words[0].rpartition("/")[2].lstrip("-") if words else ""
    return event.program == "su" or (name in _SHELLS and not {"-c", "--command"} & set(words[1:]))


class _Host:
    """What is known of one host while its events go by."""

    def __init__(self) -> None:
        self._shells: list[_Shell] = []
        self._commands: list[Deed] = []  # of the last moment
        self._by_process: dict[int, str] = {}

    def deed(self, event: Event) -> Deed:
        deed = self._tied(event)
        self._remember(deed)
        return deed

    def _tied(self, event: Event) -> Deed:
        if event.kind in (EventKind.LOG_IN, EventKind.LOG_IN_FAILED):
            known = event.target and event.target != _ROOT
            return Deed(event=event, persons=(event.target,) if known else (), ground=Ground.NAMED if known else Ground.NOBODY)
        if event.account and event.account != _ROOT:
            ground = Ground.LOG_IN_NAME if event.kind is EventKind.OPENED else Ground.NAMED
            return Deed(event=event, persons=(event.account,), ground=ground)
        if event.pid is not None and event.pid in self._by_process:
            return Deed(event=event, persons=(self._by_process[event.pid],), ground=Ground.LOG_IN_NAME)
        started = next((one for one in reversed(self._commands) if _starts(one.event, event)), None)
        if started is not None:
            return Deed(event=event, persons=started.persons, ground=Ground.COMMAND)
        if event.program in ("cron", "CRON", "crond"):
            return Deed(event=event, persons=(), ground=Ground.NOBODY)
        persons = tuple(dict.fromkeys(shell.person for shell in self._shells))
        return Deed(event=event, persons=persons, ground=(Ground.NOBODY, Ground.ONLY_SHELL, Ground.SEVERAL)[min(len(persons), 2)])

    def _remember(self, deed: Deed) -> None:
        event = deed.event
        if event.at is None:
            return
        self._commands = [one for one in self._commands if one.event.at is not None and event.at - one.event.at <= _MOMENT]
        if event.kind is EventKind.USED and deed.persons:
            self._commands.append(deed)
            if is_shell(event) and event.target in (_ROOT, "") and len(deed.persons) == 1:
                self._shells.append(_Shell(deed.persons[0], event.at, event.pid))
        if event.kind is EventKind.OPENED and event.pid is not None and len(deed.persons) == 1:
            self._by_process[event.pid] = deed.persons[0]
        if event.kind is EventKind.CLOSED and event.program.startswith(("sudo", "su")):
            self._close(event)

    def _close(self, event: Event) -> None:
        """A session has ended: that of its process, or the last that was opened."""
        if event.pid is not None:
            self._by_process.pop(event.pid, None)
            self._shells = [shell for shell in self._shells if shell.pid != event.pid]
        elif event.target in (_ROOT, "") and self._shells:
            self._shells.pop(next((at for at in reversed(range(len(self._shells))) if self._shells[at].pid is None), -1))


def _starts(command: Event, event: Event) -> bool:
    """Return whether a command that was run is what made an event: its program is named in it."""
    words = {word.rpartition("/")[2] for word in command.command.split()}
    return event.program.removesuffix("-l").removesuffix("-i") in words


def deeds_of(events: Iterable[Event], person: str | None = None, kinds: Container[EventKind] = frozenset(EventKind)) -> Iterator[Deed]:
    """Yield each event with who stood behind it; events come in the order of time.

    With `person` or `kinds` only those that this person can have done, or of these kinds: all of them tell of who stood behind others.
    """
    hosts: dict[str, _Host] = {}
    for event in events:
        deed = hosts.setdefault(event.host, _Host()).deed(event)
        if event.kind in kinds and (person is None or person in deed.persons):
            yield deed
