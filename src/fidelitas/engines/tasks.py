"""What a worker of a cluster does: it reads evidence from the ledger by its numbers, and keeps there what it concludes.

A task carries numbers and names, no evidence.  It is refused where the rules of the worker are not those of the one who asks, so that
answers of two versions are never mixed.
"""

import threading
from collections.abc import Container, Iterator
from contextlib import contextmanager
from functools import lru_cache

from distributed import get_worker
from msgspec import Struct

from fidelitas.audit import concluded_of, context_of
from fidelitas.conclusions.rules import rules_digest
from fidelitas.cycles import look_seldom
from fidelitas.judging import Context
from fidelitas.ledger import History, Ledger
from fidelitas.logbook import EventFilter, HostLogs, host_logs
from fidelitas.logbook_memory import LogbookMemory

__all__ = ["JudgeTask", "LogTask", "OtherRulesError", "judge", "read_logs"]

# Directories are judged once by a worker, and a worker that runs several tasks at once does so one after the other.
_JUDGING = threading.Lock()


class OtherRulesError(Exception):
    """The worker of this address is of another version than the one who asks."""


class JudgeTask(Struct, frozen=True):
    """Hosts to be judged, each with the number of its evidence in the ledger at a place, and the directories that they may take from."""

    rules: bytes
    place: str
    directories: tuple[tuple[str, int], ...]
    hosts: tuple[tuple[str, int], ...]


class LogTask(Struct, frozen=True):
    """Hosts whose logs are to be read, each with the numbers of its evidence, the oldest first."""

    rules: bytes
    place: str
    hosts: tuple[tuple[str, tuple[int, ...]], ...]
    wanted: EventFilter


def judge(task: JudgeTask) -> int:
    """Judge hosts and keep what is concluded; return how many hosts they were."""
    _begin(task.rules)
    with _opened(task.place) as ledger, _JUDGING:
        context = _context(task.place, task.directories)
        stored = ledger.numbered(dict(task.directories + task.hosts))
        names = [name for name, _ in task.hosts if name in stored.subjects()]
        stored.stored_answers().put(concluded_of(stored, context, names), rules_digest())
        return len(names)


@lru_cache(maxsize=1)
def _context(place: str, directories: tuple[tuple[str, int], ...]) -> Context:
    with _opened(place) as ledger:
        return context_of(ledger.numbered(dict(directories)))


def read_logs(task: LogTask) -> int:
    """Read the logs of hosts and keep what they record; return how many hosts they were."""
    _begin(task.rules)
    numbers = dict(task.hosts)
    with _opened(task.place) as ledger:

        def read(subjects: Container[str]) -> Iterator[HostLogs]:
            for subject, history in numbers.items():
                if subject in subjects:
                    yield host_logs(History(ledger, subject, history), memory.copies(subject))

        memory = LogbookMemory(ledger.stored_answers(), ledger.digests(numbers), task.wanted, lambda: ledger.is_whole)
        memory.keep(read)
    return len(numbers)


@contextmanager
def _opened(place: str) -> Iterator[Ledger]:
    """Give a ledger, and let go of its connections: a worker lives long, and a server has so many."""
    ledger = Ledger(place)
    try:
        yield ledger
    finally:
        ledger.database.close()


def _begin(rules: bytes) -> None:
    look_seldom()
    if rules != rules_digest():
        raise OtherRulesError(get_worker().address)
