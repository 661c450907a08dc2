"""Work on all cores."""

import multiprocessing
import os
from collections.abc import Callable, Iterable, Iterator
from typing import TypeVar

from fidelitas.errors import ReadError

__all__ = ["on_all_cores"]

S = TypeVar("S")
T = TypeVar("T")


def on_all_cores(function: Callable[[S], T], items: Iterable[S]) -> Iterator[T]:
    """Apply a function to each of some items, in their order, in as many processes as there are cores; to a single one here."""
    from concurrent.futures import ProcessPoolExecutor  # noqa: PLC0415 most commands need one process
    from concurrent.futures.process import BrokenProcessPool  # noqa: PLC0415

    known = list(items)
    cores = len(os.sched_getaffinity(0))
    if len(known) < 2 or cores < 2:
        yield from map(function, known)
        return
    try:
        pool = ProcessPoolExecutor(min(cores, len(known)), multiprocessing.get_context("fork"))
    except OSError:  # no shared memory here, as in some containers: one after another, then
        yield from map(function, known)
        return
    try:
        yield from pool.map(function, known)
    except BrokenProcessPool as error:
        raise ReadError("a process that read a subject was ended by the system", hint="Perhaps the memory was not enough.") from error
    finally:
        pool.shutdown(cancel_futures=True)
