"""Elevated sessions of one host: from when to when somebody acted as another account, and by which command it began.

A session is opened by a use that gives a shell, or by what PAM says of it; it is closed by what PAM says of the same process, else of the
last that was opened as the same account.  One that no line closes is told as never closed.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import lru_cache

from fidelitas.facts import Event, EventKind, Place
from fidelitas.usage.sensitive_targets import first_program

__all__ = ["MOMENT", "Session", "Sessions", "begins_session", "is_shell", "may_be_elevated", "stem"]

# A command and what it does are logged within moments of each other.
MOMENT = timedelta(seconds=3)
_SHELLS = frozenset({"sh", "bash", "dash", "zsh", "ksh", "mksh", "csh", "tcsh", "fish", "su", "machinectl", "screen", "tmux"})
_SWITCHES = frozenset({"sudo", "su", "doas", "pkexec", "runuser"})
# A log-on of Windows with an administrator's privileges is a session by itself.
_ELEVATED_LOGON = "logon"
_OF_SESSION = frozenset({"elevation", "runas", "accounts", "policy", "system"})
_LOGINS = frozenset({"sshd", "login"})
# So many sessions without an end are kept open; more than these are an attack on the reader.
_MOST_OPEN = 1000
# Terminals are used again, and logs have gaps: after this long a shell that nothing closed speaks for nobody.
_STALE = timedelta(days=2)


@dataclass(slots=True)
class Session:
    """One elevated session; `person` is empty where nobody can be tied to it, `closed` is ``None`` where no line tells of its end."""

    person: str
    account: str
    host: str
    program: str
    opened: datetime
    place: Place
    terminal: str | None = None
    command: str | None = None
    pid: int | None = None
    shell: bool = False
    closed: datetime | None = None
    end: Place | None = None
    records: int = 0

    @property
    def duration(self) -> timedelta | None:
        """How long it was, where its end is known."""
        return None if self.closed is None else self.closed - self.opened


def stem(program: str) -> str:
    """Return a program as all its log lines name it: PAM calls a log-in shell of su su-l."""
    return program.removesuffix("-l").removesuffix("-i")


def is_shell(event: Event) -> bool:
    """Return whether an event is a use that gives an interactive shell, which ends attribution by name."""
    return event.kind is EventKind.USED and event.program in _SWITCHES and (event.program == "su" or _is_shell(event.command))


def begins_session(event: Event) -> bool:
    """Return whether an event is a use that begins an elevated session: a shell, or a log-on with an administrator's privileges."""
    return is_shell(event) or (event.kind is EventKind.USED and event.program == _ELEVATED_LOGON)


@lru_cache(maxsize=10_000)
def _is_shell(command: str) -> bool:
    words = command.split(maxsplit=8)
    name = words[first_program(words)].rpartition("/")[2].lstrip("-") if words else ""
    return name in _SHELLS and not {"-c", "--command"} & set(words[1:])


def may_be_elevated(event: Event) -> bool:
    """Return whether an opened session is one as another account, or a log-in as root."""
    return stem(event.program) in _SWITCHES or (event.program in _LOGINS and event.target == "root")


class Sessions:
    """The sessions of one host while its events go by; `done` are those that are closed and were not taken yet."""

    def __init__(self) -> None:
        self._open: list[Session] = []
        self.done: list[Session] = []

    def shells(self, at: datetime | None) -> list[Session]:
        """Return the shells as root that are open at a time, the oldest first."""
        return [one for one in self._open if one.shell and one.account == "root" and _fresh(one, at)]

    def on(self, terminal: str, account: str, at: datetime | None) -> Session | None:
        """Return the session as an account that is open on a terminal at a time."""
        return next((one for one in reversed(self._open) if one.terminal == terminal and one.account == account and _fresh(one, at)), None)

    def begin(self, event: Event, person: str) -> None:
        """A use that gives a shell, or PAM that tells of a session: two lines of one session are one."""
        if event.at is None:
            return
        if event.kind is EventKind.OPENED:
            same = next((one for one in reversed(self._open) if _goes_on(one, event)), None)
            if same is not None:
                same.pid = event.pid if same.pid is None else same.pid
                same.person = same.person or person
                return
        session = Session(
            person=person,
            account=event.target or "root",
            host=event.host,
            program=stem(event.program),
            opened=event.at,
            place=event.place,
            terminal=event.terminal,
            command=event.command,
            pid=event.pid,
            shell=begins_session(event) or (event.kind is EventKind.OPENED and stem(event.program) in ("su", *_LOGINS)),
        )
        self._open.append(session)
        if len(self._open) > _MOST_OPEN:
            self.done.append(self._open.pop(0))

    def count(self, event: Event) -> None:
        """Count an event of Windows for its session, whose number it bears as its process."""
        if event.program in _OF_SESSION and event.pid is not None:
            session = next((one for one in reversed(self._open) if one.pid == event.pid), None)
            if session is not None:
                session.records += 1

    def close(self, event: Event) -> None:
        """A session has ended."""
        found = self.ended_by(event)
        if found is not None:
            self._open.remove(found)
            found.closed, found.end = event.at, event.place
            self.done.append(found)

    def ended_by(self, event: Event) -> Session | None:
        """Return the session that an event ends: that of its process, else the last that was opened by this program as this account."""
        found = next((one for one in reversed(self._open) if event.pid is not None and one.pid == event.pid), None)
        return found or next((one for one in reversed(self._open) if _may_end(one, event)), None)

    def take(self) -> Iterator[Session]:
        """Yield the sessions that are closed, and forget them."""
        done, self.done = self.done, []
        yield from done

    def never_closed(self) -> list[Session]:
        """Return the sessions that are open."""
        return list(self._open)


def _fresh(session: Session, at: datetime | None) -> bool:
    return at is None or at - session.opened < _STALE


def _goes_on(session: Session, event: Event) -> bool:
    """Return whether PAM tells of a session of which another line told a moment before."""
    if event.at is None or event.at - session.opened > MOMENT or session.account != (event.target or "root"):
        return False
    return session.program == stem(event.program) and (session.pid is None or session.pid == event.pid)


def _may_end(session: Session, event: Event) -> bool:
    """Return whether an end without a process of its own can be that of a session."""
    if session.program != stem(event.program) or (event.pid is not None and session.pid is not None):
        return False
    if event.command:  # sudo's own line at the end of a command names the command
        return event.command == session.command
    return session.account == (event.target or "root")
