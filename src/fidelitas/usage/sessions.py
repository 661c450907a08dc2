"""Elevated sessions of one host: from when to when someone acted as another account, and by which command it began.

A session is opened by a use that gives a shell, or by what PAM says of it; it is closed by what PAM says of the same process, else of the
last that was opened as the same account.  One that no line closes is told as never closed.
"""

from collections.abc import Iterator
from datetime import datetime, timedelta
from typing import Any, TypeVar

from msgspec import Struct

from fidelitas.facts import Event, EventKind, Place
from fidelitas.usage.meanings import SWITCHES, meaning_of, stem
from fidelitas.usage.plain import ELEVATED_LOGONS

__all__ = [
    "LASTING",
    "MOMENT",
    "Numbered",
    "Session",
    "Sessions",
    "begins_session",
    "is_shell",
    "may_be_elevated",
    "name_of_record",
    "whose_of",
]

K = TypeVar("K")
# sudo counts records in base 36, six digits; as a path of three folders (sudoers(5), iolog_dir).
_PARTS_OF_RECORD, _LETTERS_OF_PART = 3, 2
# A command and what it does are logged within moments of each other.
MOMENT = timedelta(seconds=3)
_LOGINS = frozenset({"sshd", "login"})
# Programs of whose opened sessions each is a shell; sudo's can be of any command.
_GIVING_SHELLS = _LOGINS | {"su"}
# So many sessions without an end are kept open; more than these are an attack on the reader.
_MOST_OPEN = 1000
# Terminals are used again, and logs have gaps: after this long a shell that nothing closed speaks for nobody.
_DISORDER = timedelta(minutes=1)  # by which lines may stand out of order
_STALE = timedelta(days=2)


class Session(Struct):
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
    records: int = 0
    recording: str = ""  # where sudo records what is typed and shown in it
    lists_commands: bool = False  # sudo logs each command that is run in it
    nested: bool = False  # of an account by itself: kept so that its end is not taken for that of the session round it

    @property
    def duration(self) -> timedelta | None:
        """How long it was, where its end is known."""
        return None if self.closed is None else self.closed - self.opened


def is_shell(event: Event) -> bool:
    """Return whether an event is a use that gives an interactive shell, which ends attribution by name."""
    return event.kind is EventKind.USED and not event.within and meaning_of(event).shell


def begins_session(event: Event) -> bool:
    """Return whether an event is a use that begins an elevated session: a shell, or a log-on with an administrator's privileges."""
    return is_shell(event) or (event.kind is EventKind.USED and event.program in ELEVATED_LOGONS)


def may_be_elevated(event: Event) -> bool:
    """Return whether an opened session is one as another account, or a log-in as root."""
    return stem(event.program) in SWITCHES or (event.program in _LOGINS and event.target == "root")


def whose_of(said: Event) -> tuple[str, str]:
    """Return by which program and as which account a session is."""
    return stem(said.program), said.target or "root"


class Sessions:
    """The sessions of one host while its events go by; `done` are those that are closed and were not taken yet."""

    __slots__ = ("_open", "done")

    def __init__(self) -> None:
        self._open = _Index()
        self.done: list[Session] = []

    def root_shells(self, at: datetime | None) -> dict[str, list[Session]]:
        """Return the shells as root that are open at a time, by person; the first comes first, a log-in of nobody known is ""."""
        return self._open.root_shells(at)

    def on(self, terminal: str, account: str, at: datetime | None) -> Session | None:
        """Return the session as an account that is open on a terminal at a time."""
        found = self._open.on(terminal, account)
        return found if found is not None and _fresh(found, at) else None

    def may_hold(self, on: tuple[str, str], pid: int | None) -> bool:
        """Return whether a session is open as an account on a terminal, or of a process."""
        return self._open.may_hold(on, pid)

    def begin(
        self,
        said: Event,
        whose: tuple[str, str],
        at: datetime | None,
        place: Place,
        pid: int | None,
        host: str,
        person: str,
        before: Event | None = None,
    ) -> None:
        """A use that gives a shell, or PAM that tells of a session: two lines of one session are one; `whose` is what `whose_of` returns.

        The line `before` has the terminal and the command of a session that PAM tells of.
        """
        (program, account), known = whose, self._open
        if at is None:
            return
        opened = said.kind is EventKind.OPENED
        if opened:
            same = known.begun_about(at, whose, pid)
            if same is not None:
                if same.pid is None and pid is not None:
                    known.number(same, pid)
                same.person = same.person or person
                return
        nested = opened and said.account == account
        shell = not nested and (program in _GIVING_SHELLS if opened else begins_session(said))
        terminal, command = (said.terminal, said.command) if before is None else (before.terminal, before.command)
        session = Session(person, account, host, program, at, place, terminal, command, pid, shell)
        session.recording, session.nested = said.recording, nested
        known.add(session)
        if len(known) > _MOST_OPEN:
            self._end(known.oldest())

    def count(self, event: Event) -> None:
        """Count an event of Windows for its session, whose number it bears as its process."""
        if event.pid is not None:
            session = self._open.of_process(event.pid)
            if session is not None:
                session.records += 1

    def holding(self, event: Event) -> Session | None:
        """Return the session that a command of sudo is run in: that of its process, or of its record; not one that it begins itself."""
        session = self._open.of_process(event.pid) if event.pid is not None else None
        if session is None and event.within:
            session = self._open.recorded(stem(event.program), name_of_record(event.recording))
        if session is None or session.program != stem(event.program) or not _fresh(session, event.at):
            return None
        return session if (session.account, session.terminal) == (event.target or "root", event.terminal) else None

    def close(self, session: Session, at: datetime | None) -> None:
        """A session has ended."""
        session.closed = at
        self._end(session)

    def _end(self, session: Session) -> None:
        self._open.remove(session)
        if not session.nested:
            self.done.append(session)

    def ended_by(self, said: Event, whose: tuple[str, str], pid: int | None) -> Session | None:
        """Return the session that ends as is said: that of the process, else the last that was opened by this program as this account."""
        found = self._open.of_process(pid) if pid is not None else None
        if found is not None and (found.program == whose[0] or not SWITCHES.issuperset((found.program, whose[0]))):
            return found
        if said.command:
            return self._open.running(whose[0], said.command, numbered=pid is None)
        return self._open.as_account(whose, numbered=pid is None)

    def take(self) -> Iterator[Session]:
        """Yield the sessions that are closed, and forget them."""
        done, self.done = self.done, []
        yield from done

    def never_closed(self) -> list[Session]:
        """Return the sessions that are open."""
        return [one for one in self._open if not one.nested]


class Numbered(dict[int, Session]):
    """Sessions by their identity, in an order."""


class _Index:
    """Open sessions, in the order in which they were opened, and by what they are asked for."""

    __slots__ = ("_as", "_by_number", "_of_process", "_on", "_recorded", "_root_shells", "_running", "_without_process")

    def __init__(self) -> None:
        self._by_number = Numbered()
        self._as: dict[tuple[str, str], Numbered] = {}  # by program and account
        self._without_process: dict[tuple[str, str], Numbered] = {}
        self._of_process: dict[int, Numbered] = {}
        self._on: dict[tuple[str, str], Numbered] = {}  # by account and terminal
        self._recorded: dict[tuple[str, str], Numbered] = {}
        self._running: dict[tuple[str, str], Numbered] | None = None  # by program and command, once that is asked for
        self._root_shells = Numbered()

    def __len__(self) -> int:
        return len(self._by_number)

    def __iter__(self) -> Iterator[Session]:
        return iter(self._by_number.values())

    def add(self, session: Session) -> None:
        number, whose, pid = id(session), (session.program, session.account), session.pid
        self._by_number[number] = session
        _enter(self._as, whose, number, session)
        if pid is None:
            _enter(self._without_process, whose, number, session)
        else:
            _enter(self._of_process, pid, number, session)
        if session.terminal or session.recording or self._running is not None:
            for table, key in self._other_places(session):
                _enter(table, key, number, session)
        if session.shell and session.account == "root":
            self._root_shells[number] = session

    def remove(self, session: Session) -> None:
        number, whose, pid = id(session), (session.program, session.account), session.pid
        self._by_number.pop(number, None)
        _leave(self._as, whose, number)
        if pid is None:
            _leave(self._without_process, whose, number)
        else:
            _leave(self._of_process, pid, number)
        if session.terminal or session.recording or self._running is not None:
            for table, key in self._other_places(session):
                _leave(table, key, number)
        if session.shell:
            self._root_shells.pop(number, None)

    def _other_places(self, session: Session) -> list[tuple[dict[Any, Numbered], object]]:
        """Return the tables that a session can be in beside those that each is in, with its key in each."""
        found: list[tuple[dict[Any, Numbered], object]] = []
        if session.terminal:
            found.append((self._on, (session.account, session.terminal)))
        if session.recording:
            found.append((self._recorded, (session.program, name_of_record(session.recording))))
        if self._running is not None:
            found.append((self._running, (session.program, session.command or "")))
        return found

    def oldest(self) -> Session:
        return next(iter(self._by_number.values()))

    def number(self, session: Session, pid: int) -> None:
        """Learn the process of a session."""
        _leave(self._without_process, (session.program, session.account), id(session))
        session.pid = pid
        _enter(self._of_process, pid, id(session), session)

    def of_process(self, pid: int) -> Session | None:
        """Return the last session of a process."""
        return _last(self._of_process.get(pid))

    def on(self, terminal: str, account: str) -> Session | None:
        """Return the last session as an account on a terminal."""
        return _last(self._on.get((account, terminal))) if self._on else None

    def may_hold(self, on: tuple[str, str], pid: int | None) -> bool:
        return on in self._on or (pid is not None and pid in self._of_process)

    def recorded(self, program: str, name: str) -> Session | None:
        """Return the last session that has a record."""
        return _last(self._recorded.get((program, name)))

    def as_account(self, whose: tuple[str, str], *, numbered: bool) -> Session | None:
        """Return the last session of a program as an account; where it need not be `numbered`, of those whose process is not known."""
        return _last((self._as if numbered else self._without_process).get(whose))

    def running(self, program: str, command: str, *, numbered: bool) -> Session | None:
        """Return the last session of a program that runs a command; the same holds of `numbered`."""
        if self._running is None:
            self._running = {}
            for session in self._by_number.values():
                _enter(self._running, (session.program, session.command or ""), id(session), session)
        some = self._running.get((program, command), _NONE)
        return next((one for one in reversed(some.values()) if numbered or one.pid is None), None)

    def begun_about(self, at: datetime, whose: tuple[str, str], pid: int | None) -> Session | None:
        """Return the last session of a program as an account that began about a time, or later; of a process, or of one not known."""
        some = self._as.get(whose)
        if not some:
            return None
        begin = at - MOMENT
        for one in reversed(some.values()):
            if one.opened >= begin and (one.pid is None or one.pid == pid):
                return one
            if begin - one.opened > _DISORDER:
                return None
        return None

    def root_shells(self, at: datetime | None) -> dict[str, list[Session]]:
        found: dict[str, list[Session]] = {}
        for number, one in list(self._root_shells.items()):
            if not _fresh(one, at):
                del self._root_shells[number]  # time goes on, and so does what is stale
            else:
                found.setdefault(one.person, []).append(one)
        return found


def _enter(table: dict[K, Numbered], key: K, number: int, session: Session) -> None:
    some = table.get(key)
    if some is None:
        table[key] = Numbered({number: session})
    else:
        some[number] = session


def _leave(table: dict[K, Numbered], key: K, number: int) -> None:
    some = table.get(key)
    if some is not None:
        some.pop(number, None)
        if not some:
            del table[key]


def _last(some: Numbered | None) -> Session | None:
    return some[next(reversed(some))] if some else None


_NONE = Numbered()


def name_of_record(recording: str) -> str:
    """Return the name by which sudo counts a record, without leading zeros: the same of ``000012`` and of a path to ``00/00/12``."""
    parts = recording.split("/")[-_PARTS_OF_RECORD:]
    counted = len(parts) == _PARTS_OF_RECORD and all(len(part) == _LETTERS_OF_PART for part in parts)
    return ("".join(parts) if counted else parts[-1]).lstrip("0")


def _fresh(session: Session, at: datetime | None) -> bool:
    return at is None or at - session.opened < _STALE


# What is kept while logs go on.
LASTING = (Session, Sessions, _Index)
