"""Many hosts at once: so many are read at a time, each is handed on as soon as it is there, and one that fails costs only itself."""

from collections.abc import Callable, Generator, Iterable
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from itertools import islice

from fidelitas.errors import FidelitasError, ReadError
from fidelitas.estate import HostEntry
from fidelitas.sources.collected import Collected
from fidelitas.trouble import told

__all__ = ["read_many"]


def read_many(
    entries: Iterable[HostEntry],
    read: Callable[[HostEntry], Collected],
    at_once: int,
    failed: Callable[[HostEntry, FidelitasError], None],
    stop: Callable[[], None],
) -> Generator[Collected, None, None]:
    """Yield what is read of hosts, in the order in which they answer; `failed` is told of the others.

    No more than `at_once` are held.  Whatever ends this early, an interrupt too, calls `stop` first, which ends what is being read.
    """
    coming = iter(entries)
    with ThreadPoolExecutor(at_once) as pool:
        running: dict[Future[Collected], HostEntry] = {}
        try:
            while True:
                running |= {pool.submit(read, one): one for one in islice(coming, at_once - len(running))}
                if not running:
                    return
                done, _ = wait(running, return_when=FIRST_COMPLETED)
                for one in done:
                    entry = running.pop(one)
                    error = one.exception()
                    if error is None:
                        yield one.result()
                    else:
                        failed(entry, error if isinstance(error, FidelitasError) else _unexpected(entry, error))
        finally:
            if running:
                stop()


def _unexpected(entry: HostEntry, error: BaseException) -> FidelitasError:
    return ReadError(f'internal error while reading "{entry.name}" (please report): {told(error)}')
