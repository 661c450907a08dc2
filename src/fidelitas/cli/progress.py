"""What is being read, on standard error of a terminal, where it takes more than a second."""

import os
import sys
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from typing import TypeVar

from fidelitas.text import clipped, escape_control

__all__ = ["progress", "rated", "watched"]

T = TypeVar("T")
# What is done sooner needs no line.
_PATIENCE = 1.0
_TICK = 0.5
_WIDTH = 78
_CLEAR = b"\r\x1b[K"


@contextmanager
def progress(doing: str) -> Iterator[Callable[[str], None]]:
    """Show a line while something is done; what is yielded says what it is about, such as "tern, 3 of 12".  Nothing in a pipe."""
    about = [""]
    if not sys.stderr.isatty():
        yield lambda _: None
        return
    ended = threading.Event()
    shown = threading.Thread(target=_show, args=(doing, about, ended), daemon=True)
    shown.start()
    try:
        yield lambda text: about.__setitem__(0, text)
    finally:
        ended.set()
        shown.join()


def _show(doing: str, about: list[str], ended: threading.Event) -> None:
    """Write the line again and again, past Python's own buffers: another process may be forked at any time."""
    begin, written = time.monotonic(), False
    while not ended.wait(_TICK if written else _PATIENCE):
        written = True
        line = clipped(escape_control(f"{doing} {about[0]}".strip()), _WIDTH - 8)
        os.write(2, _CLEAR + f"{line} ({time.monotonic() - begin:.0f} s)".encode())
    if written:
        os.write(2, _CLEAR)


def watched(items: Iterable[T], report: Callable[[str], None], name: Callable[[T], str], total: int) -> Iterator[T]:
    """Yield items, and report each with its number once it is there."""
    for number, one in enumerate(items, 1):
        report(f"{name(one)}, {number} of {total}")
        yield one


def rated(items: Iterable[T], report: Callable[[str], None], total: int, failed: Callable[[], int]) -> Iterator[T]:
    """Yield items, and report how many of all are done and failed, how many a minute, and how long the rest will take."""
    begin = time.monotonic()
    report(f"0 of {total}")
    for number, one in enumerate(items, 1):
        over = number + failed()
        rate = over / max(time.monotonic() - begin, 0.001) * 60
        left = (total - over) / rate * 60 if rate else 0.0
        report(f"{number} of {total}, {failed()} failed, {rate:.0f} a minute, {left:.0f} s left")
        yield one
