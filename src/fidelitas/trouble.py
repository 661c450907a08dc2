"""Unexpected errors as gaps: a defect of ours, or input that nobody thought of, costs the subject that it is met on and nothing else.

Knows how an exception is told in one line; not what was being done.
"""

import traceback
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TypeVar

from fidelitas.facts import Gap, GapKind, Place
from fidelitas.text import clipped, escape_control

__all__ = ["guarded", "internal_error", "told"]

T = TypeVar("T")
_HERE = Path(__file__).parent


def told(error: BaseException) -> str:
    """Return an exception in one line: what it is, and where in our code it was raised."""
    frames = [frame for frame in traceback.extract_tb(error.__traceback__) if Path(frame.filename).is_relative_to(_HERE)]
    where = f" at {Path(frames[-1].filename).relative_to(_HERE)}:{frames[-1].lineno}" if frames else ""
    return f"{type(error).__name__}{where}: {clipped(escape_control(' '.join(str(error).split())), 120)}"


def internal_error(error: BaseException, place: Place, doing: str, weakens: str) -> Gap:
    """Return the gap that an unexpected error leaves; `doing` says what it was met on."""
    why = f"internal error while {doing} (please report): {told(error)}"
    return Gap(what=doing, why=why, weakens=weakens, place=place, kind=GapKind.INTERNAL, fatal=True)


def guarded(items: Iterable[T], troubles: list[Gap], place: Place, doing: str, weakens: str) -> Iterator[T]:
    """Yield items; where making one fails unexpectedly, the rest is lost and `troubles` says so."""
    try:
        yield from items
    except Exception as error:  # noqa: BLE001 whatever it is, it costs this alone
        troubles.append(internal_error(error, place, doing, weakens))
