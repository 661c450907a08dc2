"""Whether two pieces of evidence are of one machine, whatever it is called.

Knows what tells machines apart: the machine-id(5) and the host keys of sshd, as digests.  A cloned machine shares one of them or both with
the one that it was made from, so that one alone decides nothing.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from enum import Enum
from typing import Protocol, Self, TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from fidelitas.text import clipped, escape_control

__all__ = ["Identity", "Sameness", "keep_apart", "sameness"]


class Sameness(Enum):
    """What the marks of two pieces of evidence say."""

    SAME = "same"
    OTHER = "other"
    DOUBTFUL = "doubtful"  # one mark agrees, the other differs: a clone, or new keys
    UNKNOWN = "unknown"  # no mark is in both


class Identity(Struct, frozen=True):
    """The marks of a machine: digests of its machine-id, and of its host keys."""

    machine: str | None = None
    host_keys: frozenset[str] = field(default_factory=frozenset)


def sameness(one: Identity, other: Identity) -> Sameness:
    """Return what two identities say; of host keys a common one is enough, since they are renewed one by one."""
    signs = []
    if one.machine and other.machine:
        signs.append(one.machine == other.machine)
    if one.host_keys and other.host_keys:
        signs.append(bool(one.host_keys & other.host_keys))
    if not signs:
        return Sameness.UNKNOWN
    return Sameness.SAME if all(signs) else Sameness.DOUBTFUL if any(signs) else Sameness.OTHER


class _Piece(Protocol):
    @property
    def subject(self) -> str: ...
    @property
    def identity(self) -> Identity: ...
    @property
    def digest(self) -> str: ...
    @property
    def taken(self) -> datetime: ...

    def called(self, name: str) -> "Self":
        """Return the same evidence under another name."""


P = TypeVar("P", bound=_Piece)


class _Seen(Struct, frozen=True):
    """What is kept of a piece of evidence: enough to tell whether another is of the same machine."""

    subject: str
    identity: Identity
    digest: str
    taken: datetime


def keep_apart(pieces: Iterable[P], notes: list[str]) -> Iterator[P]:
    """Yield evidence with a name for each machine: of one machine the newest comes last, of two that are called alike each has its own.

    What was done for that is added to `notes`, in words.  Pieces are taken one at a time, and none is kept.
    """
    kept: dict[str, _Seen] = {}
    for piece in pieces:
        name, alike = piece.subject, _named_alike(kept, piece.subject)
        seen = _Seen(name, piece.identity, piece.digest, piece.taken)
        same = next((one for one in alike if _is_same(one, seen)), None)
        if same is not None:
            notes.append(f'"{_shown(name)}" was given twice, evidence of one machine: the newer is used')
            if piece.taken > same.taken:
                kept[same.subject] = replace(seen, subject=same.subject)
                yield piece.called(same.subject)
            continue
        other = f"{name}#{len(alike) + 1}" if alike else name
        kept[other] = replace(seen, subject=other)
        if alike:
            reason = _why(alike[0], seen)
            notes.append(
                f'two subjects are called "{_shown(name)}" and {reason}: one is shown as "{_shown(other)}"; name it with --name FILE=NAME'
            )
        yield piece.called(other) if alike else piece


def _named_alike(kept: Mapping[str, _Seen], name: str) -> Sequence[_Seen]:
    return [seen for known, seen in kept.items() if known == name or known.startswith(f"{name}#")]


def _is_same(one: _Seen, other: _Seen) -> bool:
    return one.digest == other.digest or sameness(one.identity, other.identity) is Sameness.SAME


def _why(one: _Seen, other: _Seen) -> str:
    return {
        Sameness.OTHER: "differ in machine-id and host keys",
        Sameness.DOUBTFUL: "share the machine-id or the host keys but not both, as clones do",
    }.get(sameness(one.identity, other.identity), "nothing shows that they are one machine")


def _shown(name: str) -> str:
    return clipped(escape_control(name), 80)
