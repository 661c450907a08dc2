"""Logs of many hosts, read by several readers: each takes the lines of some hosts, all of them, and passes over those of others."""

from collections.abc import Sequence
from itertools import islice
from typing import NamedTuple
from zlib import crc32

from fidelitas.errors import ReadError
from fidelitas.languages.logs.content import LogLike
from fidelitas.languages.logs.entries import lines_that_matter
from fidelitas.text import short_host_name

__all__ = ["WHOLE", "Share", "shares_of"]

# A shorter log is read before a second reader has begun.
_LEAST = 4 << 20
# So many lines are looked at for the hosts that they name.
_SAMPLE = 1000


class Share(NamedTuple):
    """Which of so many shares a reader takes: what several hosts tell is divided, what concerns the log as a whole is told by each.

    `many` says that the logs are long and of many hosts, however many read them: then nothing that names no host is any of them.
    """

    number: int = 0
    of: int = 1
    many: bool = False

    def has(self, host: str) -> bool:
        """Return whether a host is of this share."""
        return self.of == 1 or crc32(short_host_name(host).encode("utf-8", "surrogateescape")) % self.of == self.number


WHOLE = Share()


def shares_of(logs: Sequence[LogLike], readers: int) -> list[Share]:
    """Return how the logs of one place are best divided among so many readers: not at all, where they are short or of one host."""
    if not any(_is_long_and_of_many(log) for log in logs if not log.records):
        return [WHOLE]
    return [Share(number, readers, many=True) for number in range(readers)]


def _is_long_and_of_many(log: LogLike) -> bool:
    size = 0
    try:
        for number, block in enumerate(log.blocks()):
            size += len(block)
            if number == 0 and len({line.host for line in islice(lines_that_matter([block]), _SAMPLE)}) < 2:
                return False
            if size >= _LEAST:
                return True
    except ReadError:  # told when it is read
        return False
    return False
