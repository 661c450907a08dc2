"""Walking a graph breadth first: what can be reached from where, nearest first."""

from collections.abc import Callable, Hashable, Iterable
from typing import TypeVar

__all__ = ["distances", "reached"]

N = TypeVar("N", bound=Hashable)


def reached(starts: Iterable[N], onward: Callable[[N], Iterable[N]]) -> list[N]:
    """Return every node that can be reached, the starts first, then the nearest; each once, so that cycles end."""
    agenda = list(dict.fromkeys(starts))
    seen = set(agenda)
    for node in agenda:
        for other in onward(node):
            if other not in seen:
                seen.add(other)
                agenda.append(other)
    return agenda


def distances(start: N, onward: Callable[[N], Iterable[N]]) -> dict[N, int]:
    """Return every node that can be reached with how many edges it is away, the nearest first."""
    agenda = [start]
    found = {start: 0}
    for node in agenda:
        for other in onward(node):
            if other not in found:
                found[other] = found[node] + 1
                agenda.append(other)
    return found
