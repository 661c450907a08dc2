"""Gaps: what we wanted to read and could not."""

from enum import StrEnum

from msgspec import Struct

from fidelitas.equality import equal_apart_from
from fidelitas.text import Place

__all__ = ["Gap", "GapKind"]


class GapKind(StrEnum):
    """Why something is not known."""

    UNREAD = "unread"  # it was not there, could not be opened, or is not as its language expects
    NAME_SERVICE = "name-service"  # accounts, groups or rules come from a source that is not read
    LOST = "lost"  # of the whole subject nothing could be read
    INTERNAL = "internal-error"


@equal_apart_from("place", "begin")
class Gap(Struct, frozen=True, kw_only=True):
    """Something that could not be read: a fact like any other, so that it reaches the report.

    `weakens` says in words which answers cannot be relied on because of it; empty when only the text itself is lost.
    """

    what: str
    why: str
    weakens: str = ""
    kind: GapKind = GapKind.UNREAD
    source: tuple[str, str] | None = None  # of a name service: database and source, as nsswitch.conf(5) calls them
    fatal: bool = False  # the whole subject, log or check was lost, not a part of it
    place: Place
    begin: int | None = None  # the column where the offending text begins, if before the place

    def __str__(self) -> str:
        return f"{self.place}: {self.what}: {self.why}"
