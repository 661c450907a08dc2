"""A finding: one risky or unexpected thing, and the key that stays with it.

Knows nothing of rights: checks make findings, reports show them.
"""

import hashlib
from enum import IntEnum
from typing import NamedTuple

from msgspec import Struct

from fidelitas.text import Place

__all__ = ["CheckText", "Finding", "Severity", "Statistic"]


class Severity(IntEnum):
    """How bad a finding is, the worst first."""

    CRITICAL = 0
    HIGH = 1
    MEDIUM = 2
    LOW = 3
    INFO = 4

    def __str__(self) -> str:
        return self.name.lower()


class CheckText(NamedTuple):
    """What a check says of itself: what is wrong, why it matters, how to fix it, how bad it is.

    `example` raises it, `unlike` only looks like it, `needs` is the evidence that it is judged by.
    """

    title: str
    why: str
    fix: str
    severity: str
    example: str
    unlike: str
    needs: str


class Statistic(Struct, frozen=True, kw_only=True):
    """The numbers behind a finding: what was observed, what is usual, and how probable the observation is by chance."""

    observed: int
    expected: float
    chance: float


class Finding(Struct, frozen=True, kw_only=True):
    """One risky or unexpected thing on one subject.

    `about` names what it is about in a way that survives an edited file: never a line number.  `message` says what was found, `why`
    why it matters, `advice` what to do.  `quote` is the text at the first place, `safer` what could stand there instead.
    """

    check: str
    severity: Severity
    subject: str
    about: str
    message: str
    why: str
    advice: str
    places: tuple[Place, ...]
    quote: str | None = None
    safer: str | None = None
    statistic: Statistic | None = None

    @property
    def theme(self) -> str:
        """What the check is about: the part of its name before the dot."""
        return self.check.partition(".")[0]

    @property
    def key(self) -> str:
        """A name that stays the same from survey to survey: twelve hexadecimal digits over check, subject and `about`."""
        named = f"{self.check}\0{self.subject}\0{self.about}"
        return hashlib.sha256(named.encode("utf-8", "surrogateescape")).hexdigest()[:12]
