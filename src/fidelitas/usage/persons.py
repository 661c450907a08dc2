"""Who stood behind an event: the first person in the chain of sudo, su and shells, as far as the logs tell, and how surely.

What root does after ``sudo -i`` bears root's name alone, and what a second account does after ``su`` that account's.  Both are tied to a
person by what the line or the kernel says (the log-in name or ID), by a command that started it the moment before, by the terminal that
a shell was opened on, or by the one person who had a root shell open.
"""

from collections import deque
from collections.abc import Iterator
from datetime import datetime, timedelta
from enum import Enum
from typing import NamedTuple

from fidelitas.facts import LOGIN_SERVICES, Event, EventKind, Place, is_ordinary_login
from fidelitas.usage.meanings import stem
from fidelitas.usage.plain import CRON, OF_SESSION, Marks, PlainSession, PlainUse, marks_of
from fidelitas.usage.sessions import MOMENT, Session, Sessions, begins_session, may_be_elevated, name_of_record, whose_of

__all__ = ["AttributedEvent", "Attribution", "AttributionBasis", "KnownProcess", "RecentUse"]

_ROOT, _SUDO = "root", "sudo"
_MOST_RECENT = 64
_FEW_USES, _MOST_USES = 200, 10_000  # that wait for the session that PAM opens for them
_DISORDER = timedelta(minutes=2)
_MOST_PROCESSES = 10_000  # the last of which it is known whose they are
_LOGINS = frozenset({EventKind.LOGIN, EventKind.LOGIN_FAILED})
# They write the terminal that they are used on: one without was not used in a shell on a terminal.
_NAME_TERMINAL = frozenset({"sudo", "su", "doas", "pkexec"})


class AttributionBasis(Enum):
    """On what an event is tied to a person, the surest first."""

    NAMED = "the line names the account"
    LOGIN_ID = "the kernel records the account of the login"
    LOGIN_NAME = "PAM records the login name of the session"
    CREDENTIAL = "the certificate or ticket of the login names the person"
    COMMAND = "the person ran the command that did it"
    TERMINAL = "the person had opened a shell on the same terminal"
    ONLY_SHELL = "nobody else had a root shell open"
    SEVERAL = "several had a root shell open"
    NOBODY = "not recorded in the logs"

    __hash__ = object.__hash__

    @property
    def confidence(self) -> str:
        """How surely it is so, in a word."""
        return _CONFIDENCE[self]


_CONFIDENCE = {
    AttributionBasis.NAMED: "certain",
    AttributionBasis.LOGIN_ID: "certain",
    AttributionBasis.LOGIN_NAME: "certain",
    AttributionBasis.CREDENTIAL: "certain",
    AttributionBasis.COMMAND: "likely",
    AttributionBasis.TERMINAL: "likely",
    AttributionBasis.ONLY_SHELL: "likely",
    AttributionBasis.SEVERAL: "possible",
    AttributionBasis.NOBODY: "unknown",
}


_Tie = tuple[tuple[str, ...], AttributionBasis]
_BY_NOBODY: _Tie = (), AttributionBasis.NOBODY


class AttributedEvent(NamedTuple):
    """An event with the persons who can have stood behind it: one, several, or none."""

    event: Event
    persons: tuple[str, ...]
    basis: AttributionBasis

    @property
    def person(self) -> str:
        """The one person behind it, or nothing."""
        return self.persons[0] if len(self.persons) == 1 else ""

    @property
    def label(self) -> str:
        """Who it is said to have been: the persons it can have been, else the account that the line names."""
        return " or ".join(self.persons) or self.event.account or "nobody known"


class RecentUse(NamedTuple):
    """A use that a session of PAM, or what another program logs, may come of: when, by which process and whom; what its line says."""

    at: datetime | None
    pid: int | None
    persons: tuple[str, ...]
    said: Event


class KnownProcess(NamedTuple):
    """Who was known to be behind a process, of which program, and when."""

    person: str
    program: str
    at: datetime | None


class Attribution:
    """Ties the events of one host to persons while they go by; `sessions` are the elevated ones."""

    __slots__ = ("_by_process", "_commands", "_enough", "_last", "_recorded", "sessions")

    def __init__(self) -> None:
        self.sessions = Sessions()
        self._commands: deque[RecentUse] = deque(maxlen=_MOST_RECENT)
        self._last: dict[tuple[str, object, object], RecentUse] = {}  # uses by what a session of PAM has in common with them
        self._enough = _FEW_USES
        self._by_process: dict[int, KnownProcess] = {}
        self._recorded: dict[tuple[str, str, str], datetime | None] = {}  # when each record was met last, by account and terminal

    def attribute(self, event: Event) -> AttributedEvent:
        """Return an event with who stood behind it."""
        kind = event.kind
        if kind is EventKind.USED:
            return self._used(event)
        if event.program in OF_SESSION:
            self.sessions.count(event)
        if kind is EventKind.OPENED:
            return self._opened(event)
        if kind is EventKind.CLOSED:
            return self._closed(event)
        if kind is EventKind.FAILED and event.program in LOGIN_SERVICES:
            return _record(event, _BY_NOBODY)  # who stands before the door is not known, and need not be who is inside
        record = _record(event, self._tied(event, event.target if kind in _LOGINS else event.account))
        if event.login and kind is EventKind.LOGIN:
            self._remember_process(record)
        return record

    def _remember_process(self, record: AttributedEvent) -> None:
        """Remember whose process it is that an event comes from, which opens a session."""
        event = record.event
        if event.pid is not None:
            self._is_of(event.pid, record.person, stem(event.program), event.at)

    def _is_of(self, pid: int, person: str, program: str, at: datetime | None) -> None:
        """Remember who is behind a process, or that nobody is known to be: its number can have been another's before."""
        known = self._by_process
        known.pop(pid, None)
        if len(known) >= _MOST_PROCESSES:
            del known[next(iter(known))]
        if person:
            known[pid] = tuple.__new__(KnownProcess, (person, program, at))

    def _behind_process(self, event: Event, within: timedelta) -> str:
        """Return who was known to be behind the process of an event a while ago at most; numbers of processes are given again."""
        known = self._by_process.get(event.pid) if event.pid is not None else None
        if known is None or known.program != stem(event.program):
            return ""
        return known.person if known.at is None or event.at is None or event.at - known.at <= within else ""

    def _used(self, event: Event) -> AttributedEvent:
        program = event.program
        if program == _SUDO and (event.recording or event.within or event.pid is not None):
            event = self._within(event)
        record = _record(event, self._tied(event, event.account))
        if program in OF_SESSION:
            self.sessions.count(event)
        if not event.doubt:
            persons = record.persons
            self._expect_session(event.at, event.pid, persons, event, marks_of(event))
            if len(persons) == 1 and begins_session(event):
                self.sessions.begin(event, whose_of(event), event.at, event.place, event.pid, event.host, persons[0])
        return record

    def takes_plain(self, use: PlainUse, at: datetime, pid: int | None) -> bool:
        """Take a plain use, and return whether it is that of the account that it names: nothing open here says otherwise."""
        if self.sessions.may_hold(use.on, pid):
            return False
        self._expect_session(at, pid, use.persons, use.said, use.marks)
        return True

    def _expect_session(self, at: datetime | None, pid: int | None, persons: tuple[str, ...], said: Event, marks: Marks) -> None:
        """Remember a use by what the session of PAM that it opens will have in common with it."""
        use, last = tuple.__new__(RecentUse, (at, pid, persons, said)), self._last
        program, by_account, by_any = marks
        if persons:
            self._commands.append(use)
        if pid is not None:
            last[program, "process", pid] = use
        if by_account is not None:
            last[by_account] = use
        last[by_any] = use
        if len(last) > self._enough:
            self._forget_uses(at)

    def _forget_uses(self, now: datetime | None) -> None:
        """Forget uses whose session would have been opened long ago; lines may be a little out of order."""
        kept = {key: one for key, one in self._last.items() if now is None or one.at is None or now - one.at <= _DISORDER}
        self._last = dict(list(kept.items())[-_MOST_USES // 2 :])
        self._enough = max(_FEW_USES, 2 * len(self._last))

    def _opened(self, event: Event) -> AttributedEvent:
        if is_ordinary_login(event):
            return _record(event, _of_login(event))
        before = self._command_of(event.account, marks_of(event), event.at, event.pid) if self._last else None
        record = _record(event, self._tied_opening(event, before))
        if event.pid is not None:
            self._remember_process(record)
        if may_be_elevated(event):
            said = None if before is None else before.said
            self.sessions.begin(event, whose_of(event), event.at, event.place, event.pid, event.host, record.person, said)
        return record

    def opens_plain(self, opened: PlainSession, at: datetime, place: Place, pid: int | None, host: str) -> None:
        """Take a session that a named account opens."""
        said = opened.said
        before = self._command_of(said.account, opened.marks, at, pid) if self._last else None
        persons = _behind(said, before)
        person = persons[0] if len(persons) == 1 else ""
        if pid is not None:
            self._is_of(pid, person, opened.marks.program, at)
        self.sessions.begin(said, opened.whose, at, place, pid, host, person, None if before is None else before.said)

    def closes_plain(self, closed: PlainSession, at: datetime, pid: int | None) -> None:
        """Take the end of a session."""
        session = self.sessions.ended_by(closed.said, closed.whose, pid)
        if pid is not None:
            self._by_process.pop(pid, None)
        if session is not None:
            self.sessions.close(session, at)

    def _closed(self, event: Event) -> AttributedEvent:
        if is_ordinary_login(event):
            return _record(event, _of_login(event))
        session = self.sessions.ended_by(event, whose_of(event), event.pid)
        record = _record(event, self._tied_end(event, session))
        if event.pid is not None:
            self._by_process.pop(event.pid, None)
        if session is not None:
            self.sessions.close(session, event.at)
        return record

    def _within(self, event: Event) -> Event:
        """Return a command of sudo as one that is run in a shell, where it is of the process or the record of that (log_subcmds)."""
        if event.recording and not event.within and not event.doubt and self._is_recorded_with_another(event):
            event = event._replace(within=True)
        session = self.sessions.holding(event)
        if session is None:
            return event
        session.lists_commands = True
        session.records += 1
        return event if event.within else event._replace(within=True)

    def _is_recorded_with_another(self, event: Event) -> bool:
        """Return whether a command has the record of one a moment before: sudo leaves the time within out where it is less than 10 ms."""
        key = event.account, event.terminal, name_of_record(event.recording)
        before, self._recorded[key] = self._recorded.get(key), event.at
        if len(self._recorded) > _MOST_USES:
            self._recorded = {key: event.at}
        return before is not None and event.at is not None and abs(event.at - before) <= MOMENT

    def _tied(self, event: Event, account: str) -> _Tie:
        """Return who stood behind an event that names an account, or none."""
        tie = self._named(event, account)
        if tie is not None:
            return tie
        return _BY_NOBODY if event.kind in _LOGINS or event.program in CRON else self._traced(event)

    def _named(self, event: Event, account: str) -> _Tie | None:
        """Return whom an event names, by the login, by the session on its terminal, or itself; root is anyone's name."""
        if event.login and event.login != account:
            by = AttributionBasis.CREDENTIAL if event.kind is EventKind.LOGIN else AttributionBasis.LOGIN_ID
            return (event.login,), by
        session = self.sessions.on(event.terminal, account or _ROOT, event.at) if event.terminal else None
        if session is not None and session.person:
            session.records += 1
            return (session.person,), AttributionBasis.TERMINAL
        return ((account,), AttributionBasis.NAMED) if account and account != _ROOT else None

    def _tied_opening(self, event: Event, before: RecentUse | None) -> _Tie:
        account = event.account
        if event.login and event.login != account:
            return (event.login,), AttributionBasis.LOGIN_ID
        if event.program in LOGIN_SERVICES:
            known = self._behind_process(event, _DISORDER) if event.target == _ROOT else ""
            return ((known,), AttributionBasis.CREDENTIAL) if known else _of_login(event)
        if account and account != _ROOT:
            persons = _behind(event, before)
            return persons, AttributionBasis.LOGIN_NAME if persons == (account,) else AttributionBasis.COMMAND
        if event.program in CRON:
            return _BY_NOBODY
        if before is not None and not before.persons:
            return _BY_NOBODY
        return self._traced(event) if before is None else (before.persons, AttributionBasis.COMMAND)

    def _tied_end(self, event: Event, session: Session | None) -> _Tie:
        """Return whose session ended; of one that nobody saw begin at most the process says it, not who has a root shell open."""
        if event.program in LOGIN_SERVICES and event.login in ("", event.account):
            return _of_login(event)
        tie = self._named(event, event.account)
        if tie is not None:
            return tie
        if session is not None and session.person:
            return (session.person,), AttributionBasis.COMMAND
        known = self._behind_process(event, timedelta.max)
        return ((known,), AttributionBasis.LOGIN_NAME) if known else _BY_NOBODY

    def _traced(self, event: Event) -> tuple[tuple[str, ...], AttributionBasis]:
        """Return who can have done what bears root's name or none."""
        known = self._behind_process(event, MOMENT if event.kind is EventKind.OPENED else _DISORDER)
        if known:
            return (known,), AttributionBasis.LOGIN_NAME
        started = next((one for one in self._recent(event) if _starts(one.said, event)), None)
        if started is not None:
            return started.persons, AttributionBasis.COMMAND
        shells = self._shells_for(event)
        if set(shells) <= {""}:
            return _BY_NOBODY
        if len(shells) > 1:
            return tuple(person or _ROOT for person in shells), AttributionBasis.SEVERAL
        ((person, sessions),) = shells.items()
        sessions[-1].records += 1
        return (person,), AttributionBasis.ONLY_SHELL

    def _shells_for(self, event: Event) -> dict[str, list[Session]]:
        """Return the shells as root in which an event can have come about, by person: no name where a log-in as root is nobody's."""
        shells = self.sessions.root_shells(event.at)
        if event.terminal or event.program not in _NAME_TERMINAL or event.kind is EventKind.OPENED:
            return shells
        without = {person: [one for one in sessions if not one.terminal] for person, sessions in shells.items()}
        return {person: sessions for person, sessions in without.items() if sessions}

    def _command_of(self, account: str, marks: Marks, at: datetime | None, pid: int | None) -> RecentUse | None:
        """Return the use that a session of PAM was opened for: of the same process, else of the account that it names, else the last.

        Several can use the same program within a second; the process tells them apart, and the account where no process is logged.
        """
        last, found = self._last, None
        if pid is not None:
            found = _fitting(last.get((marks.program, "process", pid)), at, pid)
        if found is None and marks.by_account is not None:
            found = _fitting(last.get(marks.by_account), at, pid)
        if found is None and account in ("", _ROOT):
            found = _fitting(last.get(marks.by_any), at, pid)
        return found

    def _recent(self, event: Event) -> Iterator[RecentUse]:
        """Yield the uses of the moments before an event, the last first."""
        for one in reversed(self._commands):
            if not _close_in_time(one, event.at):
                return
            yield one


def _record(event: Event, tie: _Tie) -> AttributedEvent:
    return tuple.__new__(AttributedEvent, (event, tie[0], tie[1]))


def _behind(opened: Event, before: RecentUse | None) -> tuple[str, ...]:
    """Return who opens a session by a named account: who used the account for it, perhaps after becoming it."""
    return before.persons if before is not None and before.persons and before.said.account == opened.account else (opened.account,)


def _of_login(event: Event) -> _Tie:
    """Return who logs in, or out: it has nothing to do with who has a root shell open."""
    return _BY_NOBODY if event.target in ("", _ROOT) else ((event.target,), AttributionBasis.LOGIN_NAME)


def _fitting(known: RecentUse | None, at: datetime | None, pid: int | None) -> RecentUse | None:
    """Return a use, if it is close to a time, and of the process as far as both are known."""
    return known if known is not None and _close_in_time(known, at) and (pid is None or known.pid in (None, pid)) else None


def _close_in_time(before: RecentUse, at: datetime | None) -> bool:
    begin = before.at
    return begin is not None and at is not None and abs(at - begin) <= MOMENT


def _starts(command: Event, event: Event) -> bool:
    """Return whether a command that was run is what made an event: its program is named in it."""
    return stem(event.program) in {word.rpartition("/")[2] for word in command.command.split()}
