"""Elevated sessions of one host: from when to when someone acted as another account, and by which command it began.

A session is opened by a use that gives a shell, or by what PAM says of it; it is closed by what PAM says of the same process, else of the
last that was opened as the same account.  One that no line closes is told as never closed.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from fidelitas.facts import Event, EventKind, Place
from fidelitas.usage.command_lines import gives_shell

__all__ = [
    "ELEVATED_LOGONS",
    "MOMENT",
    "OF_SESSION",
    "Session",
    "Sessions",
    "begins_session",
    "is_shell",
    "may_be_elevated",
    "name_of_record",
    "stem",
]

# sudo counts records in base 36, six digits; as a path of three folders (sudoers(5), iolog_dir).
_PARTS_OF_RECORD, _LETTERS_OF_PART = 3, 2
# A command and what it does are logged within moments of each other.
MOMENT = timedelta(seconds=3)
_SWITCHES = frozenset({"sudo", "su", "doas", "pkexec", "runuser"})
# A log-on of Windows with an administrator's privileges is a session by itself.
ELEVATED_LOGONS = frozenset({"logon"})
OF_SESSION = frozenset({"elevation", "runas", "accounts", "policy", "system"})
_LOGINS = frozenset({"sshd", "login"})
# So many sessions without an end are kept open; more than these are an attack on the reader.
_MOST_OPEN = 1000
# Terminals are used again, and logs have gaps: after this long a shell that nothing closed speaks for nobody.
_DISORDER = timedelta(minutes=1)  # by which lines may stand out of order
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
    recording: str = ""  # where sudo records what is typed and shown in it
    lists_commands: bool = False  # sudo logs each command that is run in it
    nested: bool = False  # of an account by itself: kept so that its end is not taken for that of the session round it
    keys: list[object] = field(default_factory=list, repr=False, compare=False)  # by which it is found while it is open

    @property
    def duration(self) -> timedelta | None:
        """How long it was, where its end is known."""
        return None if self.closed is None else self.closed - self.opened


def stem(program: str) -> str:
    """Return a program as all its log lines name it: PAM calls a log-in shell of su su-l."""
    return program.removesuffix("-l").removesuffix("-i")


def is_shell(event: Event) -> bool:
    """Return whether an event is a use that gives an interactive shell, which ends attribution by name."""
    return (
        event.kind is EventKind.USED
        and event.program in _SWITCHES
        and not event.within
        and (event.program == "su" or gives_shell(event.command))
    )


def begins_session(event: Event) -> bool:
    """Return whether an event is a use that begins an elevated session: a shell, or a log-on with an administrator's privileges."""
    return is_shell(event) or (event.kind is EventKind.USED and event.program in ELEVATED_LOGONS)


def may_be_elevated(event: Event) -> bool:
    """Return whether an opened session is one as another account, or a log-in as root."""
    return stem(event.program) in _SWITCHES or (event.program in _LOGINS and event.target == "root")


class Sessions:
    """The sessions of one host while its events go by; `done` are those that are closed and were not taken yet."""

    def __init__(self) -> None:
        self._open = _Index()
        self.done: list[Session] = []

    def root_shells(self, at: datetime | None) -> dict[str, list[Session]]:
        """Return the shells as root that are open at a time, by person; who opened one first comes first."""
        return self._open.root_shells(at)

    def on(self, terminal: str, account: str, at: datetime | None) -> Session | None:
        """Return the session as an account that is open on a terminal at a time."""
        found = self._open.last(("on", terminal, account))
        return found if found is not None and _fresh(found, at) else None

    def begin(self, event: Event, person: str, before: Event | None = None) -> None:
        """A use that gives a shell, or PAM that tells of a session: two lines of one session are one.

        The line `before` has the terminal and the command of a session that PAM tells of.
        """
        if event.at is None:
            return
        program, account = stem(event.program), event.target or "root"
        if event.kind is EventKind.OPENED:
            same = self._open.begun_since(event.at - MOMENT, ("as", program, account), event.pid)
            if same is not None:
                if same.pid is None and event.pid is not None:
                    self._open.number(same, event.pid)
                same.person = same.person or person
                return
        nested = event.kind is EventKind.OPENED and event.account == account
        session = Session(
            person=person,
            account=account,
            host=event.host,
            program=program,
            opened=event.at,
            place=event.place,
            terminal=event.terminal if before is None else before.terminal,
            command=event.command if before is None else before.command,
            pid=event.pid,
            recording=event.recording,
            shell=not nested and (begins_session(event) or (event.kind is EventKind.OPENED and program in ("su", *_LOGINS))),
            nested=nested,
        )
        self._open.add(session)
        if len(self._open) > _MOST_OPEN:
            self._end(self._open.oldest())

    def count(self, event: Event) -> None:
        """Count an event of Windows for its session, whose number it bears as its process."""
        if event.pid is not None:
            session = self._open.last(("process", event.pid))
            if session is not None:
                session.records += 1

    def holding(self, event: Event) -> Session | None:
        """Return the session that a command of sudo is run in: that of its process, or of its record; not one that it begins itself."""
        session = self._open.last(("process", event.pid)) if event.pid is not None else None
        if session is None and event.within:
            session = self._open.last(("record", stem(event.program), name_of_record(event.recording)))
        known = session is not None and session.program == stem(event.program) and session.account == (event.target or "root")
        return session if known and session is not None and session.terminal == event.terminal else None

    def close(self, event: Event) -> None:
        """A session has ended."""
        found = self.ended_by(event)
        if found is not None:
            found.closed, found.end = event.at, event.place
            self._end(found)

    def _end(self, session: Session) -> None:
        self._open.remove(session)
        if not session.nested:
            self.done.append(session)

    def ended_by(self, event: Event) -> Session | None:
        """Return the session that an event ends: that of its process, else the last that was opened by this program as this account."""
        found = self._open.last(("process", event.pid)) if event.pid is not None else None
        if found is not None:
            return found
        program = stem(event.program)
        key = ("for", program, event.command) if event.command else ("as", program, event.target or "root")
        return self._open.last(key if event.pid is None else (*key, None))

    def take(self) -> Iterator[Session]:
        """Yield the sessions that are closed, and forget them."""
        done, self.done = self.done, []
        yield from done

    def never_closed(self) -> list[Session]:
        """Return the sessions that are open."""
        left = [one for one in self._open if not one.nested]
        for one in left:
            one.keys = []
        return left


class _Index:
    """Open sessions, in the order in which they were opened, and by what they are asked for."""

    def __init__(self) -> None:
        self._by_number: dict[int, Session] = {}
        self._by_key: dict[object, dict[int, Session]] = {}
        self._root_shells: dict[int, Session] = {}

    def __len__(self) -> int:
        return len(self._by_number)

    def __iter__(self) -> Iterator[Session]:
        return iter(self._by_number.values())

    def add(self, session: Session) -> None:
        number = id(session)
        self._by_number[number] = session
        session.keys, by_key = self._keys(session), self._by_key
        for key in session.keys:
            some = by_key.get(key)
            if some is None:
                by_key[key] = {number: session}
            else:
                some[number] = session
        if session.shell and session.account == "root":
            self._root_shells[number] = session

    def remove(self, session: Session) -> None:
        number = id(session)
        self._by_number.pop(number, None)
        self._root_shells.pop(number, None)
        for key in session.keys:
            self._forget(key, number)
        session.keys = []

    def _forget(self, key: object, number: int) -> None:
        some = self._by_key.get(key)
        if some is not None:
            some.pop(number, None)
            if not some:
                del self._by_key[key]

    def oldest(self) -> Session:
        return next(iter(self._by_number.values()))

    def number(self, session: Session, pid: int) -> None:
        """Learn the process of a session."""
        for key in session.keys[2:4]:
            self._forget(key, id(session))
        session.pid = pid
        session.keys[2:4] = [("process", pid)]
        self._by_key.setdefault(("process", pid), {})[id(session)] = session

    def last(self, key: object) -> Session | None:
        """Return the last session of a key."""
        some = self._by_key.get(key)
        return some[next(reversed(some))] if some else None

    def begun_since(self, begin: datetime, key: object, pid: int | None) -> Session | None:
        """Return the last session of a key that began after a time and is of a process, or of one that is not known."""
        for one in reversed(self._by_key.get(key, _NONE).values()):
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
            elif one.person:
                found.setdefault(one.person, []).append(one)
        return found

    @staticmethod
    def _keys(session: Session) -> list[object]:
        whose, what = ("as", session.program, session.account), ("for", session.program, session.command)
        process = [(*whose, None), (*what, None)] if session.pid is None else [("process", session.pid)]
        terminal = [("on", session.terminal, session.account)] if session.terminal else []
        record = [("record", session.program, name_of_record(session.recording))] if session.recording else []
        return [whose, what, *process, *terminal, *record]


_NONE: dict[int, Session] = {}


def name_of_record(recording: str) -> str:
    """Return the name by which sudo counts a record, without leading zeros: the same of ``000012`` and of a path to ``00/00/12``."""
    parts = recording.split("/")[-_PARTS_OF_RECORD:]
    counted = len(parts) == _PARTS_OF_RECORD and all(len(part) == _LETTERS_OF_PART for part in parts)
    return ("".join(parts) if counted else parts[-1]).lstrip("0")


def _fresh(session: Session, at: datetime | None) -> bool:
    return at is None or at - session.opened < _STALE
