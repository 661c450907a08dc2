"""Excerpts of evidence that statements of the report link to: each place once, with the lines around it."""

from collections.abc import Callable
from functools import lru_cache

from msgspec import Struct

from fidelitas.evidence import Bundle
from fidelitas.excerpts import ExcerptLine, excerpt_lines
from fidelitas.text import Place

__all__ = ["Excerpt", "Excerpts"]

_AROUND = 3
# A report of ten thousand holdings stays a file that can be opened.
_MOST = 6000
_AT_ONCE = 16  # whose evidence is held: rows come system by system


class Excerpt(Struct, frozen=True):
    """A place of the evidence: its anchor in the page, and its lines; none where the evidence holds no text of it."""

    anchor: str
    place: Place
    lines: tuple[ExcerptLine, ...]


class Excerpts:
    """The excerpts that were asked for, in the order in which they were; `evidence` gives what was read of a subject."""

    def __init__(self, evidence: Callable[[str], Bundle | None]) -> None:
        self._evidence = lru_cache(_AT_ONCE)(evidence)
        self._known: dict[tuple[str, str, int | None], Excerpt] = {}

    def of(self, place: Place) -> Excerpt | None:
        """Return the excerpt of a place; nothing beyond as many as a page can hold."""
        key = (place.subject, place.path, place.line)
        if key not in self._known and len(self._known) < _MOST:
            self._known[key] = Excerpt(f"e{len(self._known) + 1}", place, tuple(self._lines(place)))
        return self._known.get(key)

    @property
    def every(self) -> tuple[Excerpt, ...]:
        """All that were asked for."""
        return tuple(self._known.values())

    def _lines(self, place: Place) -> list[ExcerptLine]:
        bundle = self._evidence(place.subject)
        return excerpt_lines(bundle, place, _AROUND) if bundle is not None else []
