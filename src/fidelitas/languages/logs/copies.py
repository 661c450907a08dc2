"""Copies of one log that several surveys collected: of what a later copy holds as well, an earlier need not be read.

Surveys of a host each bring its logs as a whole.  Where a later copy goes on from an earlier, line by line, it is one log: what the earlier
has before the later begins, and the later.  Where they differ, both are kept as they are: a line may have been removed.
"""

from collections.abc import Collection, Iterator, Mapping, Sequence
from functools import partial
from itertools import islice
from typing import NamedTuple, Protocol

from fidelitas.errors import ReadError
from fidelitas.languages.logs.content import DerivedLog, LogLike

__all__ = ["Cut", "CutMemory", "Cuts", "without_copies"]

# How often the first line of a later copy is looked for in an earlier: few lines are written twice within a second.
_MOST_TRIES = 4


class _At(NamedTuple):
    """A line of the logs of a copy: of which, its number from 1, and what it says."""

    log: int
    number: int
    text: bytes


class Cut(NamedTuple):
    """What is read of an earlier copy of a family: so many of its logs as a whole, and so many lines of the next."""

    logs: int
    lines: int = 0


# By family how a copy is cut that the next goes on from; one that no next goes on from is not.
Cuts = Mapping[str, Cut | None]
_NOTHING = Cut(0)


class CutMemory(Protocol):
    """What is known of copies by their numbers, the oldest first: how each is cut by the very next one."""

    def cuts(self, number: int, /) -> Cuts | None:
        """Return how a copy is cut, where that is known."""

    def note(self, number: int, cuts: Cuts, /) -> None:
        """Take how a copy is cut."""


def without_copies(copies: Sequence[Sequence[LogLike]], memory: CutMemory | None = None) -> list[LogLike]:
    """Return the logs of one host, those of a family in the order of time, without what a later copy of the same log holds as well.

    `copies` are what each survey brought, the oldest first.  They are looked at from the newest on, at most two at a time, and those of
    which the `memory` knows that nothing is read of them not at all.
    """
    loaded = _Copies(copies)
    found: dict[str, list[list[LogLike]]] = {}
    surveys: dict[str, int] = {}  # by which what comes last of a family was collected
    for number in reversed(range(len(copies))):
        cuts = memory.cuts(number) if memory is not None else None
        if cuts is None or any(cut is not None and family not in surveys for family, cut in cuts.items()):
            cuts, is_by_next = loaded.cuts(number)
            if memory is not None and is_by_next and number + 1 < len(copies):
                memory.note(number, cuts)
        loaded.families[number] = cuts.keys()
        for family, cut in cuts.items():
            if cut is None:
                logs = loaded[number][family]
                surveys[family] = logs[0].survey
                found.setdefault(family, []).append(logs)
            elif cut != _NOTHING:
                found[family].append([_as_of(log, surveys[family]) for log in _kept(loaded[number][family], cut)])
    return [log for of_family in found.values() for copy in reversed(of_family) for log in copy]


class _Copies:
    """Copies by family, loaded as they are asked for; `families` of those that were looked at."""

    def __init__(self, copies: Sequence[Sequence[LogLike]]) -> None:
        self._copies = copies
        self._loaded: dict[int, dict[str, list[LogLike]]] = {}
        self.families: dict[int, Collection[str]] = {}

    def __getitem__(self, number: int) -> dict[str, list[LogLike]]:
        if number not in self._loaded:
            if len(self._loaded) > 1:
                del self._loaded[max(self._loaded)]
            of_copy: dict[str, list[LogLike]] = {}
            self._loaded[number] = of_copy
            for log in self._copies[number]:
                of_copy.setdefault(log.family, []).append(log)
        return self._loaded[number]

    def cuts(self, number: int) -> tuple[dict[str, Cut | None], bool]:
        """Return how a copy is cut by later ones, and whether the very next was compared for all of it."""
        found: dict[str, Cut | None] = {}
        is_by_next = True
        for family in self[number]:
            after = next((one for one in range(number + 1, len(self._copies)) if family in self.families[one]), None)
            is_by_next = is_by_next and after == number + 1
            found[family] = None if after is None else _cut(self[number][family], self[after][family])
        return found, is_by_next


def _as_of(log: LogLike, survey: int) -> LogLike:
    return DerivedLog(log.path, log.subject, log.family, survey, log.by, log.blocks, log.records, log.tail)


def _kept(logs: Sequence[LogLike], cut: Cut) -> list[LogLike]:
    part = [_beginning(logs[cut.logs], cut.lines)] if cut.lines and cut.logs < len(logs) else []
    return [*logs[: cut.logs], *part]


def _cut(earlier: Sequence[LogLike], later: Sequence[LogLike]) -> Cut | None:
    """Return what an earlier copy has before a later begins, ``None`` where the later does not go on from it."""
    try:
        if earlier[0].records:
            return _NOTHING if _is_beginning(_blocks(earlier), _blocks(later)) else None
        # As it nearly always is: a log grew, or was rotated as a whole, and nothing else happened to it.
        same = next((number for number in range(len(earlier)) if _is_continued(earlier[number:], later)), None)
        if same is not None:
            return Cut(same)
        begin = _where_later_begins(earlier, later)
    except ReadError:  # reported when the log is read
        return None
    return None if begin is None else Cut(begin.log, begin.number - 1)


def _is_continued(earlier: Sequence[LogLike], later: Sequence[LogLike]) -> bool:
    """Return whether a copy begins with all of an earlier, which is not empty, byte by byte."""
    return any(_blocks(earlier)) and _is_beginning(_blocks(earlier), _blocks(later))


def _where_later_begins(earlier: Sequence[LogLike], later: Sequence[LogLike]) -> _At | None:
    """Return the line of an earlier copy from which on a later has the same, to the earlier's end and perhaps beyond."""
    first = next(_lines(later), None)
    if first is None:
        return None
    begins = (at for at in _lines(earlier) if at.text == first.text)
    return next((at for at in islice(begins, _MOST_TRIES) if _goes_on(earlier, at, later)), None)


def _goes_on(earlier: Sequence[LogLike], begin: _At, later: Sequence[LogLike]) -> bool:
    others = _lines(later)
    rest = (at for at in _lines(earlier[begin.log :]) if at.log or at.number >= begin.number)
    return all((other := next(others, None)) is not None and other.text == at.text for at in rest)


def _lines(logs: Sequence[LogLike]) -> Iterator[_At]:
    """Yield the lines of a copy but empty ones, which stand for what was left out."""
    make = tuple.__new__
    for place, log in enumerate(logs):
        number = 0
        for block in log.blocks():
            lines = block.split(b"\n")
            for line in lines:
                number += 1
                if line:
                    yield make(_At, (place, number, line))
            number -= not lines[-1]  # nothing follows the last line end


def _blocks(logs: Sequence[LogLike]) -> Iterator[bytes]:
    return (block for log in logs for block in log.blocks())


def _is_beginning(earlier: Iterator[bytes], later: Iterator[bytes]) -> bool:
    """Return whether blocks begin with all of others."""
    rest = b""
    for block in earlier:
        while len(rest) < len(block):
            more = next(later, b"")
            if not more:
                return False
            rest += more
        if not rest.startswith(block):
            return False
        rest = rest[len(block) :]
    return True


def _beginning(log: LogLike, count: int) -> LogLike:
    """Return the first lines of a log."""
    return DerivedLog(log.path, log.subject, log.family, log.survey, log.by, partial(_first, log, count), log.records, bytes)


def _first(log: LogLike, count: int) -> Iterator[bytes]:
    for block in log.blocks():
        inside = block.count(b"\n")
        if inside >= count:
            yield b"\n".join(block.split(b"\n", count)[:count]) + b"\n"
            return
        yield block
        count -= inside
