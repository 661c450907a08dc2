"""Reading a server within bounds of time and memory, whatever it sends.

A server that we connect to may be hostile, or pose as another: it may answer byte by byte for ever, stay silent, or send a row without end.
Each is therefore read in a process of its own that has so much memory and no more; at the deadline its connection is cut, which counts as a
server that went away, and a little later the process is ended.
"""

import multiprocessing
import os
import resource
import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from multiprocessing.connection import Connection

from fidelitas.errors import FidelitasError, ReadError
from fidelitas.sources.collected import Collected

__all__ = ["cut_at", "read_within"]

# What a server's catalogue may take beyond what is in use already: the largest listing is 64 MiB, there are some dozens.
_MEMORY = 4 << 30
# How long what was read by the deadline may take to be packed.
_PACKING = 20.0


def read_within(seconds: float, read: Callable[[], Collected], shown: str) -> Collected:
    """Return what a function reads of a server, within a time and with bounded memory; raises what it raises, or `ReadError`."""
    ours, theirs = multiprocessing.Pipe(duplex=False)
    process = multiprocessing.get_context("fork").Process(target=_child, args=(read, theirs), daemon=True)
    process.start()
    theirs.close()
    try:
        if not ours.poll(seconds + _PACKING):
            why = f"nothing came of it within {seconds:.0f} seconds"
            raise ReadError(f'could not read "{shown}": {why}', hint="Give it more time with --deadline.")
        result = ours.recv()
    except EOFError as error:
        why = f"the process that read it ended: by a signal, or for want of more than {_MEMORY >> 30} GiB of memory"
        raise ReadError(f'could not read "{shown}": {why}') from error
    finally:
        process.kill()
        process.join()
    if isinstance(result, Exception):
        raise result
    assert isinstance(result, Collected)  # noqa: S101 nothing else is sent
    return result


def _child(read: Callable[[], Collected], result: Connection) -> None:
    _bound_memory()
    try:
        result.send(read())
    except MemoryError:
        result.send(ReadError(f"the server sent more than fits into {_MEMORY >> 30} GiB"))
    except FidelitasError as error:
        result.send(_portable(error))
    except Exception as error:  # noqa: BLE001 it is told where it is waited for
        result.send(ReadError(f"internal error while reading a server (please report): {type(error).__name__}: {error}"))


def _portable(error: FidelitasError) -> FidelitasError:
    """Return an error without what led to it, which may not pass from process to process."""
    plain = type(error)(str(error), hint=error.hint)
    plain.__cause__ = None
    return plain


def _bound_memory() -> None:
    with open("/proc/self/statm", encoding="ascii") as stream:  # noqa: PTH123
        pages = int(stream.read().split()[0])
    limit = pages * resource.getpagesize() + _MEMORY
    _, hard = resource.getrlimit(resource.RLIMIT_AS)
    with suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_AS, (limit if hard == resource.RLIM_INFINITY else min(limit, hard), hard))


@contextmanager
def cut_at(seconds: float, descriptor: Callable[[], int]) -> Iterator[None]:
    """Cut a connection when the time is over, so that all who wait for it see that it is gone; `descriptor` is its socket's."""

    def cut() -> None:
        with suppress(Exception), socket.socket(fileno=_duplicate(descriptor())) as known:
            known.shutdown(socket.SHUT_RDWR)

    timer = threading.Timer(seconds, cut)
    timer.daemon = True
    timer.start()
    try:
        yield
    finally:
        timer.cancel()


def _duplicate(descriptor: int) -> int:
    return os.dup(descriptor)
