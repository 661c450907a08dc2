"""What a subject is read from: a bundle, by the look of it, so that languages need not know bundles."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Protocol

from msgspec import Struct, field

from fidelitas.facts import Gap, GapKind, Place

__all__ = ["HostEvidence", "ItemLike", "NothingRead", "lost_evidence"]


class ItemLike(Protocol):
    """What stood at one path."""

    @property
    def path(self) -> str: ...
    @property
    def kind(self) -> str: ...
    @property
    def mode(self) -> int | None: ...
    @property
    def uid(self) -> int | None: ...
    @property
    def gid(self) -> int | None: ...
    @property
    def size(self) -> int | None: ...
    @property
    def real(self) -> str | None: ...
    @property
    def digests(self) -> tuple[tuple[str, str], ...]: ...


class _MissingLike(Protocol):
    @property
    def path(self) -> str: ...
    @property
    def reason(self) -> str: ...
    @property
    def weakens(self) -> str: ...


class HostEvidence(Protocol):
    """What a host is read from: a bundle, by the look of it."""

    @property
    def subject(self) -> str: ...
    @property
    def host_name(self) -> str: ...
    @property
    def platform(self) -> str: ...
    @property
    def taken(self) -> datetime: ...
    @property
    def taken_by(self) -> int: ...
    @property
    def live(self) -> bool: ...
    @property
    def addresses(self) -> Sequence[str] | None: ...
    @property
    def items(self) -> Sequence[ItemLike]: ...
    @property
    def files(self) -> Mapping[str, bytes]: ...
    @property
    def listings(self) -> Mapping[str, bytes]: ...
    @property
    def gaps(self) -> Sequence[_MissingLike]: ...


class NothingRead(Struct, frozen=True):
    """Evidence that stands for what could not be judged: it says when and of what it is, and nothing else."""

    subject: str
    taken: datetime
    host_name: str = ""
    platform: str = "linux"
    taken_by: int = 0
    live: bool = False
    addresses: Sequence[str] | None = None
    items: Sequence[ItemLike] = ()
    files: Mapping[str, bytes] = field(default_factory=dict)
    listings: Mapping[str, bytes] = field(default_factory=dict)
    gaps: Sequence[_MissingLike] = ()


# The gap of evidence of which nothing could be read; nothing else is said of it.
_UNREAD = "the evidence"


def lost_evidence(evidence: HostEvidence) -> Gap | None:
    """Return the gap of evidence of which nothing could be read; ``None`` of any other."""
    lost = next((gap for gap in evidence.gaps if gap.path == _UNREAD), None)
    place = Place(subject=evidence.subject, path=_UNREAD)
    return None if lost is None else Gap(what=lost.path, why=lost.reason, weakens=lost.weakens, place=place, kind=GapKind.LOST, fatal=True)
