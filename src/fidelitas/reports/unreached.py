"""Hosts that could not be read, put together by cause, each with what to do about it."""

from collections.abc import Iterable, Iterator

from fidelitas.reports.numbers import counted, listed

__all__ = ["unreached_lines"]

_MOST_NAMES = 6


def unreached_lines(failures: Iterable[tuple[str, str, str, str]]) -> Iterator[str]:
    """Yield two lines for each cause: how many hosts and which, and the remedy; of (name, cause, detail, remedy) each."""
    causes: dict[str, list[tuple[str, str, str]]] = {}
    for name, cause, detail, remedy in failures:
        causes.setdefault(cause, []).append((name, detail, remedy))
    for cause, those in sorted(causes.items(), key=lambda one: (-len(one[1]), one[0])):
        names = listed([name for name, _, _ in those], _MOST_NAMES, "more")
        detail = f": {those[0][1]}" if len({detail for _, detail, _ in those}) == 1 and those[0][1] else ""
        yield f"{counted(len(those), 'host')} not read, {cause}{detail}: {names}"
        yield f"    {those[0][2]}"
