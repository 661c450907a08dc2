"""Lines of evidence around a place, and since when the evidence shows a finding."""

from collections.abc import Sequence
from datetime import datetime

from fidelitas.audit import audit
from fidelitas.evidence import Bundle
from fidelitas.masking import masked_lines
from fidelitas.text import Place, clipped, decode

__all__ = ["excerpt", "known_since"]

_WIDEST = 160


def excerpt(evidence: Bundle, place: Place, around: int = 1) -> list[str]:
    """Return the line of a place with its number, and as many before and after; nothing where the evidence has no such text."""
    content = evidence.files.get(place.path) or evidence.listings.get(place.path)
    if content is None or place.line is None:
        return []
    form = "sudoers" if "sudoers" in place.path else "shell"
    lines = masked_lines(decode(content), form).split("\n")
    numbers = range(max(place.line - around, 1), min(place.line + around, len(lines)) + 1)
    width = len(str(numbers[-1])) if numbers else 0
    return [f"{number:{width}}{'>' if number == place.line else ' '} {clipped(lines[number - 1], _WIDEST)}" for number in numbers]


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
