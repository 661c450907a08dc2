"""The truth list: what was planted, and where it must be found."""

from msgspec import Struct

__all__ = ["Planted"]


class Planted(Struct, frozen=True):
    """A problem that was planted: a check that must find it, and where."""

    check: str
    subject: str
    path: str
    line: int | None
