"""Work on all cores of this machine."""

import multiprocessing
import os
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import TYPE_CHECKING, TypeVar

from fidelitas.audit import Each
from fidelitas.errors import ReadError

if TYPE_CHECKING:
    from fidelitas.ledger import Ledger, StoredEvidence
    from fidelitas.logbook import EventFilter

__all__ = ["LocalEngine", "cores", "on_all_cores"]

S = TypeVar("S")
T = TypeVar("T")


def cores() -> int:
    """Return how many processes can run at once."""
    return len(os.sched_getaffinity(0))


def on_all_cores(function: Callable[[S], T], items: Iterable[S]) -> Iterator[T]:
    """Apply a function to each of some items, in their order, in as many processes as there are cores, of which this is one."""
    from concurrent.futures import ProcessPoolExecutor  # noqa: PLC0415 most commands need one process
    from concurrent.futures.process import BrokenProcessPool  # noqa: PLC0415

    known, others = list(items), cores() - 1
    if len(known) < 2 or not others:
        yield from map(function, known)
        return
    try:
        pool = ProcessPoolExecutor(min(others, len(known) - 1), multiprocessing.get_context("fork"))
    except OSError:  # no shared memory here, as in some containers: one after another, then
        yield from map(function, known)
        return
    try:
        theirs = [pool.submit(function, item) if number % (others + 1) else None for number, item in enumerate(known)]
        ours = iter([function(item) for item in known[:: others + 1]])
        yield from (next(ours) if one is None else one.result() for one in theirs)
    except BrokenProcessPool as error:
        raise ReadError("a process that read a subject was ended by the system", hint="Perhaps the memory was not enough.") from error
    finally:
        pool.shutdown(cancel_futures=True)


class LocalEngine:
    """Does all work in processes of this machine."""

    def judging(self, stored: "StoredEvidence") -> Each:
        """Return how hosts are judged: on all cores."""
        del stored
        return on_all_cores

    def read_logs(self, ledger: "Ledger", logs: Mapping[str, tuple[int, ...]], wanted: "EventFilter") -> None:
        """Leave it to the process that asked, which reads on all cores."""
