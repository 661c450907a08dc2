"""The truth list: what was planted, and where it must be found."""

from dataclasses import dataclass

__all__ = ["Planted"]


@dataclass(frozen=True, slots=True)
class Planted:
    """A problem that was planted: a check that must find it, and where."""

    check: str
    subject: str
    path: str
    line: int | None
