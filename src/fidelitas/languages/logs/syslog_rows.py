"""The lines of a log of syslog as rows: when, on which host, of which process, and what the message records.

Rows are few beside lines: those of hosts that another reader takes, and those that record nothing, are left out.
"""

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from operator import itemgetter
from secrets import randbits
from typing import Any

from fidelitas.facts import Event
from fidelitas.languages.logs.clock import Clock
from fidelitas.languages.logs.entries import NAMES_HOST
from fidelitas.languages.logs.idle import Idle
from fidelitas.languages.logs.line_columns import Columns, Lines, blocks_that_matter
from fidelitas.languages.logs.messages import idle_beginnings
from fidelitas.languages.logs.pulse import Pulse
from fidelitas.languages.logs.said import Said
from fidelitas.languages.logs.shares import Share
from fidelitas.languages.logs.stamps import NO_TIME, at_of, microseconds, times_by_minutes
from fidelitas.languages.logs.texts import Known
from fidelitas.languages.logs.told import LONGEST_KEPT, OF_SSHD, Told, without_port
from fidelitas.languages.logs.unread import Unread
from fidelitas.numeric import columns
from fidelitas.text import decode

__all__ = ["Host", "Row", "SyslogRows"]

Pairs = tuple[tuple[str, int], ...]

_MOST_HOSTS, _MOST_SAID = 10_000, 25_000
_WORTH_COLUMNS = 1000  # lines
_OF_SSHD = frozenset(name.encode() for name in OF_SSHD)
_SILENT = True  # known to record nothing
_MOST_DIGITS = 9


class Host:
    """A host as a log names it: whether its lines are ours to read, accounts that were met on it, and pairs of names and user IDs."""

    __slots__ = ("is_ours", "learned", "met", "name")

    def __init__(self, name: str, *, is_ours: bool) -> None:
        self.name, self.is_ours = name, is_ours
        self.met: set[tuple[str, str]] = set()
        self.learned: set[Pairs] = set()


# A line that records something: its number, time in microseconds since 1970 (UTC), host and process, -1 where that is not known.
Row = tuple[int, int, Host, int, Said]


class SyslogRows:
    """Reads blocks of lines into rows; `unknown` counts the messages of no known form, by program.

    Of lines that are not of our share no more is read than when they were written, and that by the first share alone.
    """

    def __init__(self, clock: Clock, pulse: Pulse, share: Share, made: Callable[[bytes, Event], Said]) -> None:
        """`made` is what is kept of a message and its event; `pulse` takes when the lines that matter were written."""
        self._clock, self._pulse, self._share = clock, pulse, share
        self._told: Told[bytes, Said] = Told(made)
        self._known: Known[Said | bool | bytes] = Known(_MOST_SAID)
        self._salts: dict[bytes, int] = {}
        self._idle = Idle(idle_beginnings())
        self._hosts: dict[bytes, Host] = {}
        self.remembered = 0  # of all hosts, what was met and learned
        self.unread = Unread()
        self.unknown: Counter[str] = Counter()

    def blocks(self, blocks: Iterable[bytes], after: int) -> Iterator[list[Row]]:
        """Yield the rows of each block, in their order; these are of whole lines and come `after` a number of others."""
        for lines in blocks_that_matter(blocks, after, self.unread):
            times, times_in_columns = self._times(lines)
            rows, beats = self._of_others(lines, times)
            if lines.columns is None:
                self._beat([number for number, _ in beats], [at for _, at in beats])
            else:
                rows += self._of_columns(lines.columns, times_in_columns, beats, names_hosts=lines.names_hosts)
                if lines.others:
                    rows.sort(key=_number)
            yield rows

    def host(self, written: bytes) -> Host:
        """Return a host by its name as it is written."""
        found = self._hosts.get(written)
        if found is None:
            if len(self._hosts) >= _MOST_HOSTS:
                self._hosts.clear()
                self.remembered = 0
            name = decode(written)
            found = self._hosts[written] = Host(name, is_ours=self._share.has(name))
        return found

    # -- when ----------------------------------------------------------------------------------------------------------------------

    def _times(self, lines: Lines) -> tuple[list[int], Any]:
        """Return the times of lines, and of those in columns as an array: read in their order, since of some the year follows from it."""
        others, found = lines.others, lines.columns
        if found is None:
            return [self._read(line.stamp) for line in others], None
        numpy = columns()
        times, undated = found.times.copy(), numpy.flatnonzero(found.times == NO_TIME)
        if all(_has_year(line.stamp) for line in others):
            if len(undated):
                times[undated] = times_by_minutes(numpy, found.texts.content, found.stamps[undated], self._clock.read)
            return [self._read(line.stamp) for line in others], times
        numbers = found.numbers[undated].tolist()
        stamps = zip(numbers, map(found.stamp, undated.tolist()), strict=True)
        read = {number: self._read(stamp) for number, stamp in sorted([*stamps, *((line.number, line.stamp) for line in others)])}
        times[undated] = [read[number] for number in numbers]
        return [read[line.number] for line in others], times

    def _read(self, stamp: bytes) -> int:
        at = self._clock.read(stamp.decode())
        return NO_TIME if at is None else microseconds(at)

    def _beat(self, numbers: Any, times: Any) -> None:
        """Count lines for what the log covers; not all of them need have a time."""
        numpy = columns() if len(numbers) > _WORTH_COLUMNS else None
        if numpy is not None and min(times) >= 0:
            self._pulse.beat_in_columns(numpy, numpy.asarray(times), numpy.asarray(numbers))
            return
        for number, at in zip(map(int, numbers), map(int, times), strict=True):
            if at != NO_TIME:
                self._pulse.beat(at_of(at), number)

    # -- lines one by one ----------------------------------------------------------------------------------------------------------

    def _of_others(self, lines: Lines, times: Sequence[int]) -> tuple[list[Row], list[tuple[int, int]]]:
        """Return the rows of single lines, and the numbers and times of those that count for what the log covers."""
        rows, beats = list[Row](), list[tuple[int, int]]()
        for line, at in zip(lines.others, times, strict=True):
            host = self.host(line.host)
            concerns = host.is_ours or (lines.names_hosts and _names_host(line.message))
            # Of a stamp without its year the time follows from all lines before.
            if concerns or self._share.times or not _has_year(line.stamp):
                beats.append((line.number, at))
            said = self._said(line.program, line.message) if concerns else _SILENT
            if isinstance(said, Said):
                process = int(line.pid) if 0 < len(line.pid) <= _MOST_DIGITS else -1
                rows.append((line.number, at, host, process, said))
            elif isinstance(said, bytes):
                self.unknown[decode(said)] += 1
        return rows, beats

    def _said(self, program: bytes, message: bytes) -> Said | bool | bytes:
        """Return what a message records, or its program where its form is not known."""
        if self._idle.is_one(program, message):
            return _SILENT
        return self._told.of(program, without_port(message) if program in _OF_SSHD else message) or program

    # -- lines in columns ----------------------------------------------------------------------------------------------------------

    def _of_columns(self, found: Columns, times: Any, beats: Sequence[tuple[int, int]], *, names_hosts: bool) -> list[Row]:
        """Return the rows of lines in columns, and count these, and others beside, for what the log covers."""
        numpy, hosts = columns(), [self.host(written) for written in found.hosts]
        ours = numpy.array([host.is_ours for host in hosts], bool)[found.host_of]
        if names_hosts:
            for row in numpy.flatnonzero(~ours).tolist():
                ours[row] = _names_host(found.message(row))
        counted = ours | (found.times == NO_TIME) | self._share.times
        numbers = numpy.append(found.numbers[counted], [number for number, _ in beats]).astype(int)
        when = numpy.append(times[counted], [at for _, at in beats]).astype(int)
        order = numpy.argsort(numbers, kind="stable") if beats else slice(None)
        self._beat(numbers[order], when[order])
        return self._rows(numpy, found.chosen(ours), times[ours], hosts)

    def _met(self, program: bytes, message: bytes) -> tuple[Said | bool | bytes, bool]:
        """Return what a message records that is met for the first time, and whether to know it by its sum: each is kept in one place."""
        if len(message) > LONGEST_KEPT or self._idle.is_one(program, message):
            return self._said(program, message), False
        if program in _OF_SSHD and without_port(message) is not message:
            return self._said(program, message), False
        return self._told.once(program, message) or program, True

    def _rows(self, numpy: Any, found: Columns, times: Any, hosts: Sequence[Host]) -> list[Row]:
        """Return the rows of those lines in columns that record something."""
        salts = [self._salts.setdefault(program, randbits(64)) for program in found.programs]
        sums = found.texts.sums(found.messages, found.ends - found.messages) + numpy.array(salts, numpy.uint64)[found.program_of]
        saids, which = self._known.by_sums(
            numpy, sums, lambda row: self._met(found.programs[int(found.program_of[row])], found.message(row))
        )
        for said, count in zip(saids, numpy.bincount(which, minlength=len(saids)).tolist(), strict=True):
            if isinstance(said, bytes):
                self.unknown[decode(said)] += count
        rows = numpy.flatnonzero(numpy.array([said.__class__ is Said for said in saids], bool)[which])
        parts: tuple[Iterable[Any], ...] = (
            found.numbers[rows].tolist(), times[rows].tolist(), map(hosts.__getitem__, found.host_of[rows].tolist()),
            found.processes[rows].tolist(), map(saids.__getitem__, which[rows].tolist()),
        )  # fmt: skip
        return list(zip(*parts, strict=True))


_number = itemgetter(0)


def _has_year(stamp: bytes) -> bool:
    return stamp[:1].isdigit()


def _names_host(message: bytes) -> bool:
    return any(name in message for name in NAMES_HOST)
