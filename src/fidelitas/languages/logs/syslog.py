"""A log of syslog, line by line into events.

Keeps what a line alone does not tell: the year, and the names of user IDs.
"""

from collections import Counter, deque
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from itertools import compress
from typing import Any

from fidelitas.errors import ReadError
from fidelitas.facts import LOGIN_SERVICES, Event, EventKind, Gap, Place, is_ordinary_login
from fidelitas.languages.logs.aside import Aside
from fidelitas.languages.logs.clock import Clock
from fidelitas.languages.logs.counted import Counted
from fidelitas.languages.logs.entries import NAMES_HOST
from fidelitas.languages.logs.handed_on import HandedOnStream
from fidelitas.languages.logs.idle import Idle
from fidelitas.languages.logs.journal_fields import Names, pairs_of
from fidelitas.languages.logs.line_columns import Lines, blocks_that_matter
from fidelitas.languages.logs.messages import idle_beginnings
from fidelitas.languages.logs.pam_verdicts import OTHER_MODULES, VerdictStream
from fidelitas.languages.logs.pulse import Pulse
from fidelitas.languages.logs.repetition import REPEATED, once, repeated
from fidelitas.languages.logs.shares import WHOLE, Share
from fidelitas.languages.logs.stamps import NO_TIME, TRADITIONAL_LENGTH, at_of, microseconds, times_by_minutes
from fidelitas.languages.logs.sudo_stream import OF_SUDO, SudoStream, key_of
from fidelitas.languages.logs.told import OF_SSHD, Told, without_port
from fidelitas.languages.logs.unread import Unread
from fidelitas.languages.logs.waiting import earliest
from fidelitas.numeric import columns
from fidelitas.text import decode

__all__ = ["SyslogReader"]

_MOST_HOSTS, _MOST_MET = 10_000, 100_000
# Of which other lines decide what they say.
_NOT_ALONE = frozenset({EventKind.FAILED, EventKind.LOGIN_FAILED, EventKind.CHANGED})
# What sudo writes in a line that goes on with a command (sudoers(5), syslog_maxlen).
_CONTINUED = b"(command continued)"
_AHEAD = 1 << 20
_NINE = 57  # the last digit of ASCII
_WORTH_COLUMNS = 1000  # lines
_OF_SSHD = frozenset(name.encode() for name in OF_SSHD)


class _Said:
    """What a message tells, and what follows of it for every line that says it.

    `passes` says that nothing which comes later changes it, `by_key` of sudo under what it begins, `names` are the accounts that it names,
    `pairs` those that it names with their user IDs.  `plain` is what the taker of plain events has made of it.
    """

    __slots__ = ("by_key", "event", "is_login", "names", "of_sudo", "pairs", "passes", "plain")

    def __init__(self, message: bytes, event: Event, plain: Callable[[Event], object | None]) -> None:
        kind, opened = event.kind, event.kind is EventKind.OPENED
        self.event, self.names = event, (event.account, event.target)
        self.pairs = pairs_of(once(decode(message).strip(" \r"))) if opened else ()
        is_whole = not opened or bool(event.account) or (event.program in LOGIN_SERVICES and message.endswith(b" by (uid=0)"))
        is_whole = is_whole and event.at is None and not event.host and not message.startswith(REPEATED) and event.account[:1] != "#"
        self.is_login = is_whole and is_ordinary_login(event)
        self.passes = is_whole and kind not in _NOT_ALONE and not (event.end or event.part or event.module or event.last_only)
        self.of_sudo = event.program in OF_SUDO
        self.by_key = key_of(event) if self.of_sudo and kind is not EventKind.OPENED and kind is not EventKind.CLOSED else b""
        self.plain = plain(event) if self.passes else None


class SyslogReader:
    """Reads one log; `unknown` counts the messages of no known form, by program, `pulse` all lines that matter, by time."""

    def __init__(
        self,
        clock: Clock,
        origin: Place,
        pulse: Pulse | None = None,
        names: Mapping[int, str] | None = None,
        share: Share = WHOLE,
        counted: Counted | None = None,
        aside: Aside | None = None,
    ) -> None:
        """`share` is whose lines are read; of all others no more than when they were written, and that by the first share alone.

        With `counted` ordinary logins are counted there by host, each but the first of an account: they are no events then.  While nothing
        waits for the lines to come, `aside` is given events that name no account which no other did on their host.
        """
        self._clock = clock
        self._origin = origin
        plain = aside.plain if aside is not None else lambda _: None
        self._told: Told[bytes, _Said] = Told(lambda message, event: _Said(message, event, plain))
        self._pulse = pulse or Pulse()
        self._names = Names(names or {})
        self._share = share
        self._hosts: dict[bytes, tuple[str, bool, set[tuple[str, str]]]] = {}  # name, whether it is of the share, accounts that were met
        self._met = 0
        self._others: set[bytes] = set()  # hosts that are not of the share
        self._counted, self._aside = counted, aside
        self._verdicts, self._sudo, self._handed_on = VerdictStream(), SudoStream(), HandedOnStream()
        self._goes_on = self._others_decide = True
        self._unread = Unread()
        self.unknown: Counter[str] = Counter()

    @property
    def gaps(self) -> list[Gap]:
        """What could not be read so far; where several read the log, the one that states its times says so."""
        return self._unread.gaps(self._origin) if self._share.times else []

    def events(self, blocks: Iterable[bytes], after: int = 0, until: datetime | None = None) -> Iterator[Event]:
        """Yield the events of blocks of whole lines, in their order; they come after a number of lines.

        Where others come later, of no time before `until`, what may wait for them goes on waiting.
        """
        lines = self._events(self._looking_ahead(blocks, until), after)
        verdicts = self._verdicts.decided(lines, lambda: self._others_decide, last=until is None)
        return self._handed_on.told_once(self._sudo.settled(verdicts, lambda: self._goes_on, until), until)

    @property
    def since(self) -> datetime | None:
        """Since when something waits for lines that come later, ``None`` where nothing does."""
        return earliest(at for at in (self._verdicts.since, self._sudo.since, self._handed_on.since) if at is not None)

    @property
    def lasting(self) -> tuple[object, ...]:
        """What is known at the end of blocks that were not the last, for another reader to go on with."""
        return self._clock.lasting, self._names.lasting, self._verdicts, self._sudo, self._handed_on, self.unknown, self._unread.lasting

    @lasting.setter
    def lasting(self, known: tuple[Any, ...]) -> None:
        self._clock.lasting, self._names.lasting, self._verdicts, self._sudo, self._handed_on, self.unknown, self._unread.lasting = known

    def _looking_ahead(self, blocks: Iterable[bytes], until: datetime | None) -> Iterator[bytes]:
        """Yield blocks, some behind what is read, and know whether a line in one or in those to come goes on with a command of sudo.

        The same of lines by which another module of PAM decides on a password.  A megabyte is looked ahead, however short blocks are:
        no user can put as many lines between two that sudo writes at once.  What comes later may do anything.
        """
        held: deque[tuple[bytes, bool, bool]] = deque()
        size, damage = 0, None
        try:
            for block in blocks:
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
        pulse, clock = self._pulse, self._clock
        idle = Idle(idle_beginnings(), lambda stamp, count: pulse.many(clock.near(stamp.decode()), count), pulse.many_in_columns)
        passed_over: Collection[bytes] = frozenset() if self._share.times else self._others
        for lines in blocks_that_matter(blocks, idle, passed_over, after, self._unread):
            if lines.numbers:
                yield from self._of_block(*self._concerning(lines))

    def _concerning(self, lines: Lines) -> tuple[Lines, Sequence[int]]:
        """Return the lines of a block that are of our share or name a host, with their times; what the log covers follows from all."""
        hosts = {host: self._hosts.get(host) or self._host(host) for host in set(lines.hosts)}
        ours = [hosts[host][1] for host in lines.hosts]
        if lines.names_hosts and not all(ours):
            by_field, by_json = NAMES_HOST
            ours = [one or by_field in message or by_json in message for one, message in zip(ours, lines.messages, strict=True)]
        times, counted = self._times(lines), ours
        if self._share.times or all(ours):
            self._beat(times, lines.numbers)
            return lines.chosen(ours), list(compress(times, ours))
        if lines.times is None:  # of a stamp without its year the time follows from all lines before
            counted = [one or stamp[0] > _NINE for one, stamp in zip(ours, lines.stamps, strict=True)]
        self._beat(list(compress(times, counted)), list(compress(lines.numbers, counted)))
        return lines.chosen(ours), list(compress(times, ours))

    def _times(self, lines: Lines) -> list[int]:
        """Return the times of lines in microseconds since 1970, read in their order: the year of some follows from those before."""
        stamps, numpy = lines.stamps, columns() if len(lines.stamps) > _WORTH_COLUMNS else None
        if lines.times is not None:
            found: Any = lines.times
        elif numpy is not None and set(map(len, stamps)) == {TRADITIONAL_LENGTH}:
            found = times_by_minutes(numpy, stamps, self._clock.read)
        else:
            read = (self._clock.read(stamp.decode()) for stamp in stamps)
            return [NO_TIME if at is None else microseconds(at) for at in read]
        times: list[int] = found.tolist()
        return times

    def _beat(self, times: Sequence[int], numbers: Sequence[int]) -> None:
        """Count lines for what the log covers; not all of them need have a time."""
        numpy = columns() if len(numbers) > _WORTH_COLUMNS else None
        if numpy is not None and min(times) >= 0:
            self._pulse.beat_in_columns(numpy, numpy.array(times), numbers)
            return
        for at, number in zip(times, numbers, strict=True):
            if at != NO_TIME:
                self._pulse.beat(at_of(at), number)

    def _of_block(self, lines: Lines, times: Sequence[int]) -> Iterator[Event]:
        told, hosts, known, counted, aside, names = self._told.of, self._hosts, self._told.known, self._counted, self._aside, self._names
        waiting, handed_on, (undecided, held) = self._sudo.waiting, self._handed_on.waiting, self._verdicts.held
        messages = [
            without_port(text) if program in _OF_SSHD else text for program, text in zip(lines.programs, lines.messages, strict=True)
        ]
        saids = map(known.get, zip(lines.programs, messages, strict=True))
        for number, at, host, program, pid, message, said in zip(
            lines.numbers, times, lines.hosts, lines.programs, lines.pids, messages, list(saids), strict=True
        ):
            said = said or told(program, message)  # noqa: PLW2901
            if said.__class__ is not _Said:
                if not said:
                    self.unknown[program.decode()] += 1
                continue
            event, (name, _, met) = said.event, hosts.get(host) or self._host(host)
            if said.pairs:
                names.learn(event.host or name, said.pairs)
            if said.is_login and counted is not None and counted.takes(name, said.names):
                if event.kind is EventKind.LOGIN:
                    counted.login(name, event.target, _at(at))
                continue
            if aside is not None and said.passes:
                if said.names not in met:
                    self._meet(met, said.names)
                elif aside.ready and not (waiting or undecided or held or handed_on or self._goes_on):
                    self._pass(aside, said, number, _at(at), name, pid)
                    continue
            event = self._stamped(self._named(event, name, message), number, _at(at), name, pid)
            if message.startswith(REPEATED):
                yield from repeated(event, decode(message))
            else:
                yield event

    def _stamped(self, event: Event, number: int, at: datetime | None, host: str, pid: bytes) -> Event:
        """Return what a message tells as an event of its line."""
        at, (subject, path, _, _) = event[0] or at, self._origin
        place = tuple.__new__(Place, (subject, path, number, None))
        process = int(pid) if 0 < len(pid) < 10 else None
        return tuple.__new__(Event, (at, place, process, event[3], event[4], event[5] or host, *event[6:]))

    def _pass(self, aside: Aside, said: _Said, number: int, at: datetime | None, host: str, pid: bytes) -> None:
        """Have an event taken aside of which no line to come changes anything."""
        event, process = said.event, int(pid) if 0 < len(pid) < 10 else None
        if said.of_sudo:
            self._sudo.passes(event, host, said.by_key)
        if at is not None and said.plain is not None:
            aside.take_plain(said.plain, at, self._origin, number, process, host)
        else:
            aside.take(event.stamped(at, self._origin.at(number), process, host))

    def _meet(self, met: set[tuple[str, str]], names: tuple[str, str]) -> None:
        if self._met < _MOST_MET:
            met.add(names)
            self._met += 1

    def _host(self, written: bytes) -> tuple[str, bool, set[tuple[str, str]]]:
        """Return a host's name, whether its lines are of our share, and the accounts that were met on it."""
        name = decode(written)
        if len(self._hosts) >= _MOST_HOSTS:
            self._hosts.clear()
            self._met = 0
        found = self._hosts[written] = name, self._share.has(name), set()
        if not found[1] and len(self._others) < _MOST_HOSTS:
            self._others.add(written)
        return found

    def _named(self, event: Event, host: str, message: bytes) -> Event:
        """Return the event of a message with the name of the account of which that has the number alone, as PAM of who opens a session."""
        if event.account[:1] == "#":
            return event._replace(account=self._names.account(host, event.account))
        if event.kind is not EventKind.OPENED or event.account:
            return event
        if event.program in LOGIN_SERVICES and message.endswith(b" by (uid=0)"):
            return event
        return event._replace(account=self._names.opener(event.host or host, event.program, once(decode(message).strip(" \r"))))


def _at(time: int) -> datetime | None:
    return None if time == NO_TIME else at_of(time)
