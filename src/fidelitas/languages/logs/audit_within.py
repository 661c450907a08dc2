"""A log in which records of the audit log are, too: what a program says of itself there and such a record says again is one event.

The audit system's dispatcher hands its records to syslog where it is told to; journald takes them from the kernel itself.
"""

import re
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from itertools import chain

from fidelitas.errors import ReadError
from fidelitas.facts import Event
from fidelitas.languages.logs.deduplication import Deduplication, Sourced

__all__ = ["LASTING", "AuditWithin"]

_SIGN = b"audi"
# The names of those who hand records on, where lines of syslog and entries of the journal name a program.
_HANDED_ON = re.compile(rb'(?: |SYSLOG_IDENTIFIER(?:"\s*:\s*"|=))(?:audit|audispd|audisp-syslog)(?:\[\d+\])?["\n: ]')
_BEGIN = datetime(1, 1, 1, tzinfo=UTC)


class AuditWithin:
    """The events of one log as they go by; while none of its records was seen, `is_one` is false, and all pass as they are."""

    __slots__ = ("_at", "_once")

    def __init__(self) -> None:
        self._once: Deduplication | None = None
        self._at = _BEGIN

    @property
    def is_one(self) -> bool:
        """Whether the log has records of the audit log, as far as it was looked at."""
        return self._once is not None

    @property
    def since(self) -> datetime | None:
        """Since when something waits that was not yielded yet, ``None`` where nothing does."""
        return self._once.since if self._once is not None else None

    def see(self, block: bytes) -> None:
        """Look at a block before it is read."""
        if self._once is None and _SIGN in block and _HANDED_ON.search(block):
            self._once = Deduplication([0, 0])

    def seen(self, blocks: Iterable[bytes]) -> Iterator[bytes]:
        """Yield blocks, each when the next was looked at."""
        before, damage = None, None
        try:
            for block in blocks:
                self.see(block)
                if before is not None:
                    yield before
                before = block
        except ReadError as error:  # what was read before counts
            damage = error
        if before is not None:
            yield before
        if damage is not None:
            raise damage

    def told_once(self, events: Iterable[Event], *, last: bool) -> Iterator[Event]:
        """Yield the events of the log in their order, those that both tell once.

        Where these are not the `last`, those that may be told again go on waiting.
        """
        coming = iter(events)
        for event in coming:
            if self._once is not None:
                yield from self._once.told_once(map(self._sourced, chain((event,), coming)), last=last)
                return
            yield event
        if self._once is not None:
            yield from self._once.told_once((), last=last)

    def _sourced(self, event: Event) -> Sourced:
        self._at = event.at or self._at
        return Sourced(self._at, int(event.audited), event)


# What is kept of a log that goes on.
LASTING = (AuditWithin,)
