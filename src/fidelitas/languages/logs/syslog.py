"""A log of syslog, line by line into events.

Keeps what a line alone does not tell: the year, and the names of user IDs.
"""

from collections import Counter, deque
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from typing import Any

from fidelitas.errors import ReadError
from fidelitas.facts import Event, EventKind, Gap, Place
from fidelitas.languages.logs.aside import Passing
from fidelitas.languages.logs.audit_within import AuditWithin
from fidelitas.languages.logs.clock import Clock
from fidelitas.languages.logs.counted import Counted
from fidelitas.languages.logs.handed_on import HandedOnStream
from fidelitas.languages.logs.journal_fields import Names
from fidelitas.languages.logs.pam_verdicts import OTHER_MODULES, VerdictStream
from fidelitas.languages.logs.pulse import Pulse
from fidelitas.languages.logs.repetition import repeated
from fidelitas.languages.logs.said import Said
from fidelitas.languages.logs.shares import WHOLE, Share
from fidelitas.languages.logs.stamps import NO_TIME, at_of
from fidelitas.languages.logs.sudo_stream import SudoStream
from fidelitas.languages.logs.syslog_rows import Host, Row, SyslogRows
from fidelitas.languages.logs.waiting import earliest

__all__ = ["SyslogReader"]

_MOST_REMEMBERED = 200_000
# What sudo writes in a line that goes on with a command (sudoers(5), syslog_maxlen).
_CONTINUED = b"(command continued)"
_AHEAD = 1 << 20


class SyslogReader:
    """Reads one log; `unknown` counts the messages of no known form, by program, `pulse` all lines that matter, by time."""

    def __init__(
        self,
        clock: Clock,
        origin: Place,
        pulse: Pulse | None = None,
        names: Names | None = None,
        share: Share = WHOLE,
        counted: Counted | None = None,
        aside: Passing | None = None,
    ) -> None:
        """`share` is whose lines are read; of all others no more than when they were written, and that by the first share alone.

        With `counted` ordinary logins are counted there by host, each but the first of an account: they are no events then.  While nothing
        waits for the lines to come, `aside` is given events that name no account which no other did on their host.
        """
        plain = aside.plain if aside is not None else lambda _: None
        self._rows = SyslogRows(clock, pulse or Pulse(), share, lambda message, event: Said(message, event, plain))
        self._clock, self._origin, self._share = clock, origin, share
        self._names = names or Names({})
        self._counted, self._aside = counted, aside
        self._verdicts, self._sudo, self._handed_on, self._audit = VerdictStream(), SudoStream(), HandedOnStream(), AuditWithin()
        self._goes_on = self._others_decide = True

    @property
    def unknown(self) -> Counter[str]:
        """Messages of no known form, by program."""
        return self._rows.unknown

    @property
    def gaps(self) -> list[Gap]:
        """What could not be read so far; where several read the log, the one that states its times says so."""
        return self._rows.unread.gaps(self._origin) if self._share.times else []

    def events(self, blocks: Iterable[bytes], after: int = 0, until: datetime | None = None) -> Iterator[Event]:
        """Yield the events of blocks of whole lines, in their order; they come after a number of lines.

        Where others come later, of no time before `until`, what may wait for them goes on waiting.
        """
        lines = self._events(self._looking_ahead(blocks, until), after)
        verdicts = self._verdicts.decided(lines, lambda: self._others_decide, last=until is None)
        settled = self._sudo.settled(verdicts, lambda: self._goes_on, until)
        return self._audit.told_once(self._handed_on.told_once(settled, until), last=until is None)

    @property
    def since(self) -> datetime | None:
        """Since when something waits for lines that come later, ``None`` where nothing does."""
        return earliest(at for at in (self._verdicts.since, self._sudo.since, self._handed_on.since, self._audit.since) if at is not None)

    @property
    def lasting(self) -> tuple[object, ...]:
        """What is known at the end of blocks that were not the last, for another reader to go on with."""
        return (
            self._clock.lasting,
            self._names.lasting,
            self._verdicts,
            self._sudo,
            self._handed_on,
            self._audit,
            self.unknown,
            self._rows.unread.lasting,
        )

    @lasting.setter
    def lasting(self, known: tuple[Any, ...]) -> None:
        rows = self._rows
        self._clock.lasting, self._names.lasting, self._verdicts, self._sudo, self._handed_on, self._audit, *others = known
        rows.unknown, rows.unread.lasting = others

    def _looking_ahead(self, blocks: Iterable[bytes], until: datetime | None) -> Iterator[bytes]:
        """Yield blocks, some behind what is read, and know whether a line in one or in those to come goes on with a command of sudo.

        The same of lines by which another module of PAM decides on a password.  A megabyte is looked ahead, however short blocks are:
        no user can put as many lines between two that sudo writes at once.  What comes later may do anything.
        """
        held: deque[tuple[bytes, bool, bool]] = deque()
        size, damage = 0, None
        try:
            for block in blocks:
                self._audit.see(block)
                held.append((block, _CONTINUED in block, any(module in block for module in OTHER_MODULES)))
                size += len(block)
                while size - len(held[0][0]) >= _AHEAD:
                    size -= len(held[0][0])
                    yield self._next(held)
        except ReadError as error:  # what was read before counts
            damage = error
        while held:
            block = self._next(held)
            self._goes_on, self._others_decide = self._goes_on or until is not None, self._others_decide or until is not None
            yield block
        if damage is not None:
            raise damage

    def _next(self, held: deque[tuple[bytes, bool, bool]]) -> bytes:
        self._goes_on = any(goes_on for _, goes_on, _ in held)
        self._others_decide = any(decide for *_, decide in held)
        return held.popleft()[0]

    def _events(self, blocks: Iterable[bytes], after: int) -> Iterator[Event]:
        for rows in self._rows.blocks(blocks, after):
            yield from self._of_rows(rows)

    def _of_rows(self, rows: Sequence[Row]) -> Iterator[Event]:
        # Of what is told twice one is compared with the other.
        counted, aside = (None, None) if self._audit.is_one else (self._counted, self._aside)
        waiting, handed_on, (undecided, held) = self._sudo.waiting, self._handed_on.waiting, self._verdicts.held
        for number, time, host, process, said in rows:
            if said.pairs and said.pairs not in host.learned:
                self._learn(host, said)
            if said.is_login and counted is not None and counted.takes(host.name, said.names):
                if said.event.kind is EventKind.LOGIN:
                    counted.login(host.name, said.event.target, _at(time))
                continue
            at, pid = _at(time), None if process < 0 else process
            if aside is not None and said.passes:
                if said.learns and said.names not in host.met:
                    self._remember(host.met, said.names)
                elif aside.ready and not (waiting or undecided or held or handed_on or self._goes_on):
                    if said.of_sudo:
                        self._sudo.passes(said.event, host.name, said.by_key)
                    if at is not None and said.plain is not None:
                        aside.take_plain(said.plain, at, self._origin, number, pid, host.name)
                    else:
                        aside.take(said.event.stamped(at, self._origin.at(number), pid, host.name))
                    continue
            event = self._named(said, host.name).stamped(at, self._origin.at(number), pid, host.name)
            if said.repetition:
                yield from repeated(event, said.repetition)
            else:
                yield event

    def _learn(self, host: Host, said: Said) -> None:
        """Learn the user IDs that a message names; where one was another's before, what was learned is asked for again."""
        if self._names.learn(said.event.host or host.name, said.pairs):
            self._rows.remembered -= len(host.learned)
            host.learned.clear()
        if not said.event.host:
            self._remember(host.learned, said.pairs)

    def _remember(self, known: set[Any], one: object) -> None:
        if self._rows.remembered < _MOST_REMEMBERED:
            known.add(one)
            self._rows.remembered += 1

    def _named(self, said: Said, host: str) -> Event:
        """Return what a message records with the name of the account of which it has the number alone, as PAM of who opens a session."""
        event = said.event
        if event.account[:1] == "#":
            return event._replace(account=self._names.account(host, event.account))
        return event._replace(account=self._names.opener(event.host or host, event.program, said.opener)) if said.opener else event


def _at(time: int) -> datetime | None:
    return None if time == NO_TIME else at_of(time)
