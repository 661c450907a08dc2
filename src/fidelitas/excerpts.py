"""Lines of evidence around a place, and since when the evidence shows a finding."""

from collections.abc import Sequence
from datetime import datetime
from functools import lru_cache

from msgspec import Struct

from fidelitas.audit import audit
from fidelitas.evidence import Bundle
from fidelitas.masking import masked_lines
from fidelitas.text import Place, clipped, decode

__all__ = ["ExcerptLine", "excerpt", "excerpt_lines", "known_since"]

_WIDEST = 160


class ExcerptLine(Struct, frozen=True):
    """A line of an excerpt; `here` is the one that was asked for."""

    number: int
    text: str
    here: bool


def excerpt(evidence: Bundle, place: Place, around: int = 1) -> list[str]:
    """Return the line of a place with its number, and as many before and after; nothing where the evidence has no such text."""
    lines = excerpt_lines(evidence, place, around)
    width = len(str(lines[-1].number)) if lines else 0
    return [f"{line.number:{width}}{'>' if line.here else ' '} {line.text}" for line in lines]


def excerpt_lines(evidence: Bundle, place: Place, around: int) -> list[ExcerptLine]:
    """Return the line of a place and as many before and after, secrets masked; nothing where the evidence has no such text."""
    content = evidence.files.get(place.path) or evidence.listings.get(place.path)
    if content is None or place.line is None:
        return []
    form = "sudoers" if "sudoers" in place.path else "shell"
    lines = _masked(content, form)
    numbers = range(max(place.line - around, 1), min(place.line + around, len(lines)) + 1)
    return [ExcerptLine(number, clipped(lines[number - 1], _WIDEST), number == place.line) for number in numbers]


@lru_cache(maxsize=64)
def _masked(content: bytes, form: str) -> Sequence[str]:
    """Return the lines of a text without secrets; a report asks for many places of one file."""
    return masked_lines(decode(content), form).split("\n")


def known_since(history: Sequence[Bundle], key: str) -> datetime | None:
    """Return when the oldest evidence was taken from which on a finding is there without a break; ``None`` where the newest lacks it.

    Each piece of evidence is looked at by itself: what follows only from several subjects together is not seen.
    """
    since = None
    for bundle in reversed(history):
        if all(finding.key != key for finding in audit([bundle], findings=True).findings):
            break
        since = bundle.taken
    return since
