"""A long log of which few lines matter, made short by several readers: each looks through a part of the file for the lines that can matter.

What is left out leaves an empty line, so that lines keep their numbers; blocks stay blocks, by which the years of stamps are counted.
"""

from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from typing import Any

from fidelitas.errors import ReadError
from fidelitas.languages.logs.content import DerivedLog, LogLike
from fidelitas.languages.logs.entries import BEGINNINGS, lines_that_matter
from fidelitas.languages.logs.forms import is_syslog
from fidelitas.languages.logs.line_heads import heads_of
from fidelitas.numeric import columns

__all__ = ["thinned"]

# Bytes of a log by which it is known whether few lines matter: one in so many.
_SAMPLE, _FEW = 2 << 20, 20
# What is left is held in memory, and worth it, as long as it is one byte in so many, and of each part no more than so many.
_FEW_LEFT, _ALWAYS_LEFT, _MOST_LEFT = 8, 1 << 20, 32 << 20

_Blocks = Callable[[], Iterator[bytes]]
_Each = Callable[[Callable[[_Blocks], list[bytes] | None], Sequence[_Blocks]], Iterable[list[bytes] | None]]


def thinned(logs: Sequence[LogLike], each: _Each, readers: int) -> list[LogLike]:
    """Return logs of a host, those of which few lines matter without the others; `each` applies a function to all parts of one."""
    return [_thinned(log, each, readers) or log for log in logs] if readers > 1 else list(logs)


def _thinned(log: LogLike, each: _Each, readers: int) -> LogLike | None:
    parts = log.parts(readers)
    if len(parts) < 2 or not _has_few_that_matter(log):
        return None
    left = list(each(_lines_left, parts))
    if None in left:
        return None
    blocks = [block for part in left for block in part or ()]
    return DerivedLog(log.path, log.subject, log.family, log.survey, log.by, partial(iter, blocks), records=False, tail=log.tail)


def _has_few_that_matter(log: LogLike) -> bool:
    """Return whether a log is one of syslog, and few of its first lines matter."""
    sample: list[bytes] = []
    try:
        for block in log.blocks():
            sample.append(block)
            if sum(map(len, sample)) >= _SAMPLE:
                break
    except ReadError:  # told when it is read
        return False
    matter = sum(1 for _ in lines_that_matter(sample))
    return bool(sample) and is_syslog(sample[0][: 1 << 16]) and matter * _FEW < sum(block.count(b"\n") for block in sample)


def _lines_left(part: _Blocks) -> list[bytes] | None:
    """Return what is left of each block of a part, ``None`` where that is much, or cannot be read: then all of the log is read by one."""
    numpy, found, size, read = columns(), list[bytes](), 0, 0
    if numpy is None:
        return None
    try:
        for block in part():
            left = b"".join(_left(numpy, block))
            size, read = size + len(left), read + len(block)
            if size > _MOST_LEFT or (size > _ALWAYS_LEFT and size * _FEW_LEFT > read):
                return None
            found.append(left)
    except ReadError:
        return None
    return found


def _left(numpy: Any, block: bytes) -> Iterator[bytes]:
    """Yield the lines of a block that can matter, and of all others the ends."""
    heads, done = heads_of(numpy, numpy.frombuffer(block, numpy.uint8), BEGINNINGS), 0
    for place, begin, end in zip(heads.places.tolist(), heads.begins.tolist(), heads.ends.tolist(), strict=True):
        yield b"\n" * (place - done)
        yield block[begin:end]
        done = place
    yield b"\n" * (block.count(b"\n") - done)
