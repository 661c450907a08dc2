"""One log while it is read: in its form, to its end, or to the end that it has so far."""

from collections.abc import Collection, Iterator, Mapping
from datetime import datetime, tzinfo
from typing import Any

from msgspec import Struct, field

from fidelitas.facts import Event, Place
from fidelitas.languages.logs.aside import Passing
from fidelitas.languages.logs.content import LogContent, LogLike
from fidelitas.languages.logs.counted import Counted
from fidelitas.languages.logs.forms import KnownLog, beating, reader_of
from fidelitas.languages.logs.pulse import Pulse
from fidelitas.languages.logs.shares import WHOLE, OfShare, Share
from fidelitas.languages.logs.so_far import BlocksSoFar, Extent
from fidelitas.languages.utmp import whole_records

__all__ = ["LASTING", "Cover", "InHand", "KnownHost", "Stopped", "extent_of"]


class Cover(Struct):
    """What one log covers: its `pulse` says from when to when, and how steadily."""

    subject: str
    path: str
    family: str
    survey: int
    pulse: Pulse = field(default_factory=Pulse)
    empty: bool = False


class KnownHost(Struct, frozen=True, kw_only=True):
    """What is known of the host of some logs: the zone of its clock, its accounts by ID, what it is called.

    Beside it whose lines are read, in what ordinary logins are only counted, and what else takes events aside.
    """

    zone: tzinfo
    names: Mapping[int, str]
    sids: Mapping[str, str]
    called: Collection[str] = ()
    share: Share = WHOLE
    counted: Counted | None = None
    aside: Passing | None = None


class Stopped(Struct):
    """Where the reading of a log stopped: how much of it was read by which reader, and what that knew."""

    path: str
    reader: str
    extent: Extent
    lasting: tuple[Any, ...]


class InHand:
    """One log that is being read; `cover` is what it covers."""

    def __init__(self, log: LogLike, host: KnownHost, cover: Cover) -> None:
        self.log, self.cover = log, cover
        self._of_share = OfShare(host.share) if host.share.of > 1 else None
        content = LogContent(log)
        cover.empty = content.is_empty
        known = KnownLog(
            origin=Place(subject=log.subject, path=log.path),
            content=content,
            by=log.by,
            zone=host.zone,
            names=host.names,
            called=host.called,
            sids=host.sids,
            pulse=cover.pulse,
            share=host.share,
            counted=host.counted,
            aside=host.aside,
        )
        self.reader, self._beats = reader_of(known, records=log.records)
        self._content = content
        self._so_far = _blocks_so_far(log, content.blocks())

    @property
    def may_go_on(self) -> bool:
        """Whether another reader can go on where this one stops."""
        return getattr(self.reader, "lasting", None) is not None

    def events(self) -> Iterator[Event]:
        """Yield the events of the log, to its end."""
        return self._shown(self.reader.events(self._content.blocks()))

    def events_so_far(self, until: datetime) -> Iterator[Event]:
        """Yield the events of what is whole, but for those that lines may add to that come later, of no time before `until`."""
        return self._shown(self.reader.events(self._so_far.whole(), self._so_far.extent.lines, until))  # type: ignore[call-arg]

    @property
    def since(self) -> datetime | None:
        """Since when something waits for lines that come later, ``None`` where nothing does."""
        found: datetime | None = getattr(self.reader, "since", None)
        return found

    def rest(self) -> Iterator[Event]:
        """Yield what is left behind these, as if no line came later."""
        return self._shown(self.reader.events(self._so_far.rest(), self._so_far.extent.lines))  # type: ignore[call-arg]

    def extent(self) -> Extent:
        """Return how much was read so far; of a log that was read to its end this is all of it."""
        return self._so_far.extent

    def stopped(self) -> Stopped | None:
        """Return where the reading stands; ``None`` where none can go on from there."""
        lasting = getattr(self.reader, "lasting", None)
        return None if lasting is None else Stopped(self.log.path, type(self.reader).__name__, self._so_far.extent, lasting)

    def goes_on_from(self, before: Stopped) -> bool:
        """Go on where the reading of an earlier copy stopped; return whether this is that log, perhaps grown or under another name."""
        if before.reader != type(self.reader).__name__ or not self._so_far.passes(before.extent):
            return False
        try:
            self.reader.lasting = before.lasting  # type: ignore[attr-defined]
        except ValueError:  # by the whole log it begins in another year than by its begin
            return False
        return True

    def _shown(self, events: Iterator[Event]) -> Iterator[Event]:
        counted, ours = beating(events, self.cover.pulse) if self._beats else events, self._of_share
        return counted if ours is None else (one for one in counted if ours[one.host or self.log.subject])


def extent_of(log: LogLike) -> Extent:
    """Return how much there is of a log, read to its end."""
    so_far = _blocks_so_far(log, log.blocks())
    for _ in so_far.whole():
        pass
    return so_far.extent


def _blocks_so_far(log: LogLike, blocks: Iterator[bytes]) -> BlocksSoFar:
    return BlocksSoFar(blocks, whole_records if log.records else _whole_lines)


def _whole_lines(block: bytes) -> int:
    return block.rfind(b"\n") + 1


# What is kept of logs that go on.
LASTING = (Cover, Pulse, Stopped)
