"""Whether two pieces of evidence are of one machine, whatever it is called.

Knows what tells machines apart: the machine-id(5) and the host keys of sshd, as digests.  A cloned machine shares one of them or both with
the one that it was made from, so that one alone decides nothing.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from enum import Enum
from typing import Generic, Protocol, Self, TypeVar

from fidelitas.text import clipped, escape_control

__all__ = ["Apart", "Identity", "Sameness", "keep_apart", "sameness"]


class Sameness(Enum):
    """What the marks of two pieces of evidence say."""

    SAME = "same"
    OTHER = "other"
    DOUBTFUL = "doubtful"  # one mark agrees, the other differs: a clone, or new keys
    UNKNOWN = "unknown"  # no mark is in both


@dataclass(frozen=True, slots=True)
class Identity:
    """The marks of a machine: digests of its machine-id, and of its host keys."""

    machine: str = ""
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


@dataclass(frozen=True, slots=True)
class Apart(Generic[P]):
    """Evidence of which no two pieces have one name, and what was done for that, in words."""

    pieces: tuple[P, ...]
    notes: tuple[str, ...]


def keep_apart(pieces: Iterable[P]) -> Apart[P]:
    """Return evidence with a name for each machine: of one machine the newest stays, of two that are called alike both."""
    kept: dict[str, P] = {}
    notes: list[str] = []
    for piece in pieces:
        name, alike = piece.subject, _named_alike(kept, piece.subject)
        same = next((one for one in alike if _is_same(one, piece)), None)
        if same is not None:
            newer = max(same, piece, key=lambda one: one.taken)
            kept[same.subject] = newer.called(same.subject)
            notes.append(f'"{_shown(name)}" was given twice, evidence of one machine: the newer is used')
        elif not alike:
            kept[name] = piece
        else:
            other = f"{name}#{len(alike) + 1}"
            kept[other] = piece.called(other)
            reason = _why(alike[0], piece)
            notes.append(
                f'two subjects are called "{_shown(name)}" and {reason}: one is shown as "{_shown(other)}"; name it with --name FILE=NAME'
            )
    return Apart(tuple(kept.values()), tuple(notes))


def _named_alike(kept: dict[str, P], name: str) -> Sequence[P]:
    return [piece for known, piece in kept.items() if known == name or known.startswith(f"{name}#")]


def _is_same(one: _Piece, other: _Piece) -> bool:
    return one.digest == other.digest or sameness(one.identity, other.identity) is Sameness.SAME


def _why(one: _Piece, other: _Piece) -> str:
    return {
        Sameness.OTHER: "differ in machine-id and host keys",
        Sameness.DOUBTFUL: "share the machine-id or the host keys but not both, as clones do",
    }.get(sameness(one.identity, other.identity), "nothing shows that they are one machine")


def _shown(name: str) -> str:
    return clipped(escape_control(name), 80)
