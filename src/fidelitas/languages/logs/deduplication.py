"""One event that several logs have, counted once: syslog, the journal, the audit log, sudo's own file, or a log that was collected twice.

Logs have one event alike but for how they write it: what is compared is who did what as whom on which host, with words without quotation
marks.  sudo's own file has the time at which sudo was called, the others that at which the password was right: minutes can lie between.
"""

import heapq
import re
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime, timedelta
from itertools import islice
from typing import NamedTuple

from fidelitas.facts import Event, EventKind
from fidelitas.text import short_host_name

__all__ = ["LASTING", "Deduplication", "Sourced"]

# Stamps of whole seconds, and the time that a message takes from one daemon to the next.
_WITHIN = timedelta(seconds=2)
# Three passwords, each waited for five minutes at most (sudoers(5), passwd_tries and passwd_timeout).
_ASKED = timedelta(minutes=15)
_MOST_GONE = 1000
_MOST_HELD = 100_000
# So many alike are compared: a user who runs one command without end must not stop the reader.
_MOST_ALIKE = 1000
# How words are written differs: in quotes, with backslashes, other characters in octal, blanks one or several.
_WRITTEN = re.compile(r"#(0\d\d)|\s+|['\"\\]+")
_NUMBER = "#"  # how an account is written of which nothing but its user ID is known
_LONGEST = 2000  # the audit log keeps no more of a command


class Sourced(NamedTuple):
    """An event, when it was, and the family of logs that tells it; `called` where that is when sudo was called."""

    at: datetime
    family: int
    event: Event
    called: bool = False


# Where an event stands: its time, a number that grows as events come, and how many of whole seconds stand before it there.
_Place = tuple[datetime, int, int]


class _Held:
    """An event that waits for others that tell the same, and the families that have told it; `before` is that before it in its log."""

    __slots__ = ("before", "families", "gone", "keys", "number", "one", "place")

    def __init__(self, one: Sourced, keys: tuple[object, ...], number: int, before: "_Held | None") -> None:
        self.one, self.keys, self.families, self.before = one, keys, {one.family}, before
        self.number, self.gone = number, False
        self.place: _Place = (one.at, number, 0)

    def fits(self, other: Sourced) -> bool:
        """Return whether another event can be the same by its family and time."""
        if other.family in self.families:
            return False
        between = other.at - self.place[0]
        if other.called == self.one.called:
            return abs(between) <= _WITHIN
        return -_WITHIN <= (between if self.one.called else -between) <= _ASKED

    def take(self, other: Sourced, number: int) -> bool:
        """Take what another tells besides, its time and place among the others where they are closer; return whether these changed."""
        self.families.add(other.family)
        mine = self.one
        closer = mine.called and not other.called if mine.called != other.called else mine.at.microsecond == 0 < other.at.microsecond
        if closer:
            self.place = (other.at, number, 0)
        self.one = _fuller(mine, other)._replace(at=self.place[0], called=mine.called and other.called)
        return closer

    def moves(self) -> bool:
        """Stand behind the event before it in its log, where another log told that one's time within the same second; return whether so."""
        before, self.before = self.before, None
        at = self.place[0]
        if before is None or at.microsecond or not before.place > self.place or before.place[0].replace(microsecond=0) != at:
            return False
        self.place = (before.place[0], before.place[1], before.place[2] + 1)
        self.one = self.one._replace(at=before.place[0])
        return True


class Deduplication:
    """The events of several families as they go by; `missed` are those that no family of the last survey has."""

    __slots__ = ("_alike", "_count", "_heap", "_newest", "_patience", "missed", "surveys")

    def __init__(self, surveys: Sequence[int]) -> None:
        """`surveys` are the numbers of the surveys that collected each family."""
        self.surveys = surveys
        self.missed: list[Sourced] = []
        self._patience = _WITHIN
        self._heap: list[tuple[_Place, int, _Held]] = []
        self._alike: dict[object, dict[int, _Held]] = {}
        self._newest: dict[int, _Held] = {}  # of each family
        self._count = 0

    @property
    def since(self) -> datetime | None:
        """Since when something waits that was not yielded yet, ``None`` where nothing does."""
        return self._heap[0][0][0] if self._heap else None

    def told_once(self, events: Iterable[Sourced], *, last: bool = True) -> Iterator[Event]:
        """Yield events that come by time, of those alike from different families within moments the one that says most.

        Where these are not the `last`, those that others may have as well go on waiting.
        """
        for one in events:
            if one.called:
                self._patience = _ASKED
            # A clock that is set back must not keep all.
            while self._heap and (abs(one.at - self._heap[0][0][0]) > self._patience or len(self._heap) > _MOST_HELD):
                yield from self._let_go()
            self._take(one)
        while self._heap and last:
            yield from self._let_go()

    def _take(self, one: Sourced) -> None:
        keys = _keys(one.event)
        twin = next((other for other in islice(self._alike.get(keys[0], _NONE).values(), _MOST_ALIKE) if other.fits(one)), None)
        for key in keys[1:] if twin is None else ():
            some = islice(self._alike.get(key, _NONE).values(), _MOST_ALIKE)
            twin = next((other for other in some if other.fits(one) and _may_be_one(other.one, one)), None)
        self._count += 1
        if twin is None:
            twin = _Held(one, keys, self._count, self._newest.get(one.family))
            for key in keys:
                self._alike.setdefault(key, {})[self._count] = twin
            self._push(twin)
        elif twin.take(one, self._count):
            self._push(twin)
        self._newest[one.family] = twin
        if len(twin.families) == len(self.surveys):  # every log has it
            self._forget(twin)

    def _forget(self, one: _Held) -> None:
        for key in one.keys:
            alike = self._alike.get(key, {})
            alike.pop(one.number, None)
            if not alike:
                self._alike.pop(key, None)

    def _push(self, one: _Held) -> None:
        self._count += 1
        heapq.heappush(self._heap, (one.place, self._count, one))

    def _let_go(self) -> Iterator[Event]:
        place, _, oldest = heapq.heappop(self._heap)
        if place != oldest.place or oldest.gone:
            return  # it stands elsewhere by now, or is gone
        if oldest.moves():
            self._push(oldest)
            return
        oldest.gone = True
        self._forget(oldest)
        last = max(self.surveys)
        if last and len(self.missed) < _MOST_GONE and all(self.surveys[family] < last for family in oldest.families):
            self.missed.append(oldest.one)
        event = oldest.one.event
        yield event if event.at is None or event.at == place[0] else event._replace(at=place[0])


_NONE: dict[int, _Held] = {}


def _keys(event: Event) -> tuple[object, ...]:
    """Return what is the same where two logs tell one event; a use has a second one without its account, whose number a log may have."""
    key = _key(event)
    if (event.kind is EventKind.USED or event.kind is EventKind.REFUSED) and event.terminal and event.command:
        host, kind, _, written = key
        return key, (host, kind, written, event.terminal, "")
    return (key,)


def _may_be_one(use: Sourced, other: Sourced) -> bool:
    """Return whether two uses of one command on one terminal are of one account, of which a log has the number alone.

    They are of one moment, whenever sudo was called: a terminal is someone else's later.
    """
    event, second = use.event, other.event
    named = (event.account[:1] == _NUMBER) != (second.account[:1] == _NUMBER)
    return named and abs(use.at - other.at) <= _WITHIN and (event.pid == second.pid or None in (event.pid, second.pid))


def _key(event: Event) -> tuple[object, ...]:
    """Return what is the same where two logs tell one event: the audit log knows no target of sudo, and words changes its own way."""
    host = short_host_name(event.host or event.place.subject)
    if event.kind is EventKind.USED or event.kind is EventKind.REFUSED:
        return host, event.kind, event.account, _written(event.command) or event.target
    if event.kind is EventKind.CHANGED:
        return host, event.kind, event.program, event.target, event.group
    return host, event.kind, event.program.removesuffix("-i").removesuffix("-l"), event.target, _written(event.command)


def _written(command: str) -> str:
    """Return the words of a command in one form, however a log writes them."""
    if not command:
        return ""
    return _WRITTEN.sub(lambda found: " " if found[1] or found[0].isspace() else "", command[:_LONGEST]).rstrip()


def _fuller(one: Sourced, other: Sourced) -> Sourced:
    """Return the one that says more, with the account of the login and a doubt where either has them; a last login says least."""
    fullness = [(not event.last_only, sum(map(bool, event.dedup_key))) for event in (one.event, other.event)]
    base, second = (one, other) if fullness[0] >= fullness[1] else (other, one)
    more = {name: value for name in ("login", "doubt") if (value := getattr(second.event, name)) and not getattr(base.event, name)}
    if base.event.account[:1] == _NUMBER and second.event.account[:1] not in ("", _NUMBER):
        more["account"] = second.event.account
    return base._replace(event=base.event._replace(**more)) if more else base


# What is kept of logs that go on.
LASTING = (Deduplication, _Held)
