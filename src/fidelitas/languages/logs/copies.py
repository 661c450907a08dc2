"""Copies of one log that several surveys collected: of what a later copy holds as well, an earlier need not be read.

Surveys of a host each bring its logs as a whole.  Where a later copy goes on from an earlier, line by line, it is one log: what the earlier
has before the later begins, and the later.  Where they differ, both are kept as they are: a line may have been removed.
"""

from collections.abc import Iterator, Sequence
from functools import partial
from itertools import islice
from typing import NamedTuple

from fidelitas.errors import ReadError
from fidelitas.languages.logs.content import DerivedLog, LogLike

__all__ = ["without_copies"]

# How often the first line of a later copy is looked for in an earlier: few lines are written twice within a second.
_MOST_TRIES = 4


class _At(NamedTuple):
    """A line of the logs of a copy: of which, its number from 1, and what it says."""

    log: int
    number: int
    text: bytes


def without_copies(logs: Sequence[LogLike]) -> list[LogLike]:
    """Return the logs of one host, those of a family in the order of time, without what a later copy of the same log holds as well."""
    families: dict[str, dict[int, list[LogLike]]] = {}
    for log in logs:
        families.setdefault(log.family, {}).setdefault(log.survey, []).append(log)
    return [log for copies in families.values() for log in _joined([copies[survey] for survey in sorted(copies)])]


def _joined(copies: Sequence[list[LogLike]]) -> list[LogLike]:
    """Return the copies of one family, the oldest first, each that the next goes on from cut to what that has not."""
    found: list[list[LogLike]] = []
    survey = 0  # by which what comes last was collected
    for copy, after in zip(reversed(copies), [None, *reversed(copies[1:])], strict=True):
        cut = None if after is None else _before(copy, after)
        if cut is None:
            survey = copy[0].survey
            found.append(copy)
        else:
            found.append([_as_of(log, survey) for log in cut])
    return [log for copy in reversed(found) for log in copy]


def _as_of(log: LogLike, survey: int) -> LogLike:
    return DerivedLog(log.path, log.subject, log.family, survey, log.by, log.blocks, log.records, log.tail)


def _before(earlier: Sequence[LogLike], later: Sequence[LogLike]) -> list[LogLike] | None:
    """Return what an earlier copy has before a later begins, ``None`` where the later does not go on from it."""
    try:
        if earlier[0].records:
            return [] if _is_beginning(_blocks(earlier), _blocks(later)) else None
        # As it nearly always is: a log grew, or was rotated as a whole, and nothing else happened to it.
        same = next((number for number in range(len(earlier)) if _is_continued(earlier[number:], later)), None)
        if same is not None:
            return list(earlier[:same])
        begin = _where_later_begins(earlier, later)
    except ReadError:  # reported when the log is read
        return None
    if begin is None:
        return None
    cut = [] if begin.number == 1 else [_beginning(earlier[begin.log], begin.number - 1)]
    return [*earlier[: begin.log], *cut]


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
