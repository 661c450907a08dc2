"""Lines whose message begins in a way that concerns no privilege: they are counted, minute by minute, and nothing more."""

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from fidelitas.languages.logs.entries import NAME_FIRST

__all__ = ["Idle"]

_NAME_FIRST = frozenset(name.encode() for name in NAME_FIRST)
_PAM = (b"pam_", b" pam_")
_HEAD = 5  # bytes by which the beginnings of messages are distinguished at first; each is at least as long
_NINE = 57  # the last digit of ASCII
_MINUTE_ISO, _MINUTE_TRADITIONAL = 16, 12  # bytes of a stamp up to the seconds
_UTC, _OFFSET = b"Z", slice(-6, -3)  # where a stamp says of which zone it is


class Idle:
    """Knows such lines by the beginnings of their messages, and counts them.

    `seen` is called with stamps and how many lines there were, of each minute the first by time, and the last; `times` with the times of
    lines, where these are known, as an array of NumPy (microseconds since 1970).
    """

    def __init__(self, beginnings: Iterable[bytes], seen: Callable[[bytes, int], None], times: Callable[[Any, Any], None]) -> None:
        self._heads: dict[bytes, tuple[bytes, ...]] = {}  # beginnings by their first bytes
        for beginning in beginnings:
            self._heads[beginning[:_HEAD]] = (*self._heads.get(beginning[:_HEAD], ()), beginning)
        self._seen, self.times = seen, times
        self._minutes: dict[bytes, _Stamps] = {}

    def are_busy(self, programs: Sequence[bytes], messages: Sequence[bytes]) -> list[bool]:
        """Return of lines, by their programs and messages, which are not idle; some messages begin with an account's name."""
        beginnings = [self._heads.get(message[:_HEAD]) for message in messages]
        return [
            some is None or not message.startswith(some) or (program in _NAME_FIRST and not message.startswith(_PAM))
            for some, program, message in zip(beginnings, programs, messages, strict=True)
        ]

    def count(self, stamps: Iterable[bytes]) -> None:
        """Count lines by their stamps."""
        for stamp, count in Counter(stamps).items():
            zone = _UTC if stamp.endswith(_UTC) else stamp[_OFFSET]
            minute = stamp[: _MINUTE_ISO if stamp[0] <= _NINE else _MINUTE_TRADITIONAL] + zone
            known = self._minutes.get(minute)
            if known is None:
                known = self._minutes[minute] = _Stamps(stamp)
            known.add(stamp, count)

    def report(self) -> None:
        """Report what was counted in a block, once its other lines were yielded."""
        for one in self._minutes.values():
            self._seen(one.first, one.count)
            if one.last != one.first:
                self._seen(one.last, 0)
        self._minutes.clear()


class _Stamps:
    """The first and the last stamp of a minute, and of how many lines."""

    __slots__ = ("count", "first", "last")

    def __init__(self, stamp: bytes) -> None:
        self.first = self.last = stamp
        self.count = 0

    def add(self, stamp: bytes, count: int) -> None:
        self.count += count
        if stamp > self.last:
            self.last = stamp
        elif stamp < self.first:
            self.first = stamp
