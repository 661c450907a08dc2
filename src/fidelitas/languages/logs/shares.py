"""Logs of many hosts, read by several readers: each takes the lines of some hosts, all of them, and passes over those of others."""

from collections import Counter
from collections.abc import Mapping, Sequence
from itertools import islice
from typing import NamedTuple
from zlib import crc32

from fidelitas.errors import ReadError
from fidelitas.languages.logs.content import LogLike
from fidelitas.languages.logs.hosts_named import hosts_named_in
from fidelitas.text import decode, short_host_name

__all__ = ["WHOLE", "OfShare", "Share", "shares_of"]

# A shorter log is read before a second reader has begun.
_LEAST = 4 << 20
# So many lines are looked at for the hosts that they name.
_SAMPLE = 10_000
# To look at the times of so many lines takes as long as to read one.
_TELLING = 25
_MOST_HOSTS = 100_000


class Share(NamedTuple):
    """Which of so many shares a reader takes: what several hosts tell is divided, what concerns the log as a whole is told by each.

    `many` says that the logs are long and of many hosts, however many read them: then nothing that names no host is any of them.
    `times` says that the reader tells from when to when a log goes, and how steadily: of one log, one of them is enough.
    """

    number: int = 0
    of: int = 1
    many: bool = False
    times: bool = True
    met: Mapping[str, int] | None = None  # of the hosts that the log begins with, the share of each

    def has(self, host: str) -> bool:
        """Return whether a host is of this share."""
        if self.of == 1:
            return True
        name = short_host_name(host)
        number = None if self.met is None else self.met.get(name)
        return (crc32(name.encode("utf-8", "surrogateescape")) % self.of if number is None else number) == self.number


class OfShare(dict[str, bool]):
    """Whether hosts are of a share, by their names as they are written: looked up once for each."""

    def __init__(self, share: Share) -> None:
        super().__init__()
        self._share = share

    def __missing__(self, host: str) -> bool:
        found = self._share.has(host)
        if len(self) < _MOST_HOSTS:
            self[host] = found
        return found


WHOLE = Share()


def shares_of(logs: Sequence[LogLike], readers: int) -> list[Share]:
    """Return how the logs of one place are best divided among so many readers: not at all, where they are short or of one host."""
    lines = next((found for log in logs if not log.records for found in (_hosts_of_a_long_one(log),) if found), None)
    if lines is None:
        return [WHOLE]
    met = _divided(lines, readers)
    several = len({(log.survey, log.family) for log in logs}) > 1  # each reader compares one with the other
    return [Share(number, readers, many=True, times=several or number == 0, met=met) for number in range(readers)]


def _divided(lines: Counter[str], readers: int) -> dict[str, int]:
    """Return the reader of each host, so that all have about as much to do: each host goes to the one that has fewest lines.

    The first looks at the times of all lines, too.
    """
    sums = [lines.total() // _TELLING, *(0 for _ in range(readers - 1))]
    found = {}
    for name, count in sorted(lines.items(), key=lambda one: (-one[1], one[0])):
        found[name] = number = sums.index(min(sums))
        sums[number] += count
    return found


def _hosts_of_a_long_one(log: LogLike) -> Counter[str]:
    """Return the hosts of a long log with how many of its first lines are of each; nothing of a short log, or of one host's."""
    size, left, hosts = 0, _SAMPLE, Counter[bytes]()
    try:
        for block in log.blocks():
            size += len(block)
            if left:
                written = list(islice(hosts_named_in(block), left))
                hosts.update(written)
                left -= len(written)
            if size >= _LEAST:
                break
    except ReadError:  # told when it is read
        return Counter()
    named: Counter[str] = Counter()
    for host, count in hosts.items():
        named[short_host_name(decode(host))] += count
    return named if size >= _LEAST and len(named) > 1 else Counter()
