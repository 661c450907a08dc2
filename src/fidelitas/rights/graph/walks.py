"""Walking a graph breadth first: what can be reached from where, nearest first."""

from collections.abc import Callable, Hashable, Iterable, Mapping
from itertools import islice
from typing import TypeVar

__all__ = ["distances", "reached", "reached_along"]

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


def reached_along(starts: Iterable[N], edges: Mapping[N, Mapping[N, object]]) -> list[N]:
    """Return the same as `reached`, in the same order, where the edges from each node are at hand: each step is one of dictionaries."""
    seen: dict[N, object] = dict.fromkeys(starts)
    passed, none = 0, dict[N, object]()
    while passed < len(seen):
        level = list(islice(seen, passed, None))
        passed = len(seen)
        for node in level:
            seen.update(edges.get(node, none))
    return list(seen)


def distances(start: N, onward: Callable[[N], Iterable[N]], most: int | None = None) -> dict[N, int]:
    """Return every node that can be reached with how many edges it is away, the nearest first; none that is further away than `most`."""
    agenda = [start]
    found = {start: 0}
    for node in agenda:
        if found[node] == most:
            break
        for other in onward(node):
            if other not in found:
                found[other] = found[node] + 1
                agenda.append(other)
    return found
