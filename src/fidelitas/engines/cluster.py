"""The cluster engine: Dask's workers, each with this package and a way to the same ledger of PostgreSQL.

    dask://HOST:PORT                   a scheduler on this machine
    dask://HOST:PORT?tls=FOLDER        any other: FOLDER has ca.pem, cert.pem and key.pem

Workers execute what arrives, and what they answer is unpacked here: off this machine both sides prove who they are (mutual TLS).  What a
cluster does not do, for whatever reason, is left undone: the process that asked then finds nothing kept of it, and does it itself.
"""

import asyncio
import logging
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import CancelledError
from contextlib import contextmanager, suppress
from ipaddress import ip_address
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

from distributed import Client, Future, Security, wait
from distributed.comm.core import CommClosedError
from msgspec import Struct

from fidelitas.audit import Conclude, Each
from fidelitas.conclusions.rules import rules_digest
from fidelitas.engines.local import on_all_cores
from fidelitas.engines.tasks import JudgeTask, LogTask, OtherRulesError, judge, read_logs
from fidelitas.errors import ReadError, RequestError
from fidelitas.ledger import Ledger, StoredEvidence
from fidelitas.logbook import EventFilter
from fidelitas.rights import DirectoryRights

__all__ = ["ClusterEngine"]

_SCHEME, _PORT = "dask", 8786
_SECONDS_TO_CONNECT = 10
_SECONDS_WITHOUT_WORKER = 30  # after which the work is done here
_SECONDS_OF_PATIENCE = 60  # without any result, after which other workers are asked as well
_TICK = 1.0
_ATTEMPTS = 3  # at a scheduler that went away
_RETRIES = 3  # of a task whose worker was lost
# Reading logs is divided into about so many tasks: those of one host can be long.
_LOG_TASKS = 200
# A client that is closed or connecting anew refuses with a `RuntimeError`.
_LOST = (CommClosedError, OSError, TimeoutError, RuntimeError, asyncio.CancelledError, CancelledError)


class _Scheduler(Struct, frozen=True):
    address: str
    security: Security | None


class ClusterEngine:
    """Work by the workers of a scheduler, on a ledger that they reach; `notice` is called with what was not done there."""

    def __init__(self, named: str, ledger: Ledger, notice: Callable[[str], None]) -> None:
        """Raise `RequestError` for a name that cannot be meant, or a ledger that workers do not reach."""
        self._scheduler, self._notice = _scheduler(named), notice
        if ledger.place.file is not None:
            raise RequestError(
                f'workers cannot read ledger "{ledger}", a file of this machine', hint="Keep surveys in PostgreSQL: docs/scale.md says how."
            )
        self._place = str(ledger.place)
        self._refused: set[str] = set()

    def judging(self, stored: StoredEvidence) -> Each:
        """Return how hosts are judged: by the workers, which keep what they conclude."""
        if str(stored.ledger.place) != self._place:  # a survey that could not be kept there
            return on_all_cores
        numbers = stored.numbers()
        directories = tuple(
            (name, numbers[name]) for name, (platform, _) in stored.subjects().items() if platform == DirectoryRights.platform
        )

        def each(conclude: Conclude, shares: Sequence[Sequence[str]]) -> Iterator[dict[bytes, bytes]]:
            del conclude  # workers do it by the names of hosts
            rules = rules_digest()
            tasks = [JudgeTask(rules, self._place, directories, tuple((name, numbers[name]) for name in some)) for some in shares]
            for _ in self._done(judge, tasks):
                yield {}
            yield {}  # what was kept elsewhere is asked for anew, however much that was

        return each

    def read_logs(self, ledger: Ledger, logs: Mapping[str, tuple[int, ...]], wanted: EventFilter) -> None:
        """Have the workers read the logs of hosts, and keep what they record."""
        del ledger
        rules, hosts = rules_digest(), list(logs.items())
        size = max(len(hosts) // _LOG_TASKS, 1)
        shares = [hosts[at : at + size] for at in range(0, len(hosts), size)]
        for _ in self._done(read_logs, [LogTask(rules, self._place, tuple(some), wanted) for some in shares]):
            pass

    # -- the work ------------------------------------------------------------------------------------------------------------------

    def _done(self, function: Callable[[Any], int], tasks: Sequence[object]) -> Iterator[int]:
        """Yield the result of each task that a worker did, in the order in which they end; say how many were not done."""
        left = dict(enumerate(tasks))
        for attempt in range(_ATTEMPTS):
            try:
                with self._connected() as client:
                    yield from self._by(client, function, left)
                break
            except _LOST as error:
                if attempt == _ATTEMPTS - 1 or not left:
                    self._notice(f"the scheduler at {self._scheduler.address} was lost: {str(error) or type(error).__name__}")
                    break
                time.sleep(_TICK)
        if left:
            self._notice(f"{len(left)} of {len(tasks)} parts of the work were not done by the cluster, and are done here")

    @contextmanager
    def _connected(self) -> Iterator[Client]:
        logging.getLogger("distributed").setLevel(logging.CRITICAL)
        options = {"timeout": _SECONDS_TO_CONNECT, "set_as_default": False, "name": "fidelitas"}
        client = Client(self._scheduler.address, security=self._scheduler.security, **options)  # type: ignore[no-untyped-call]
        try:
            yield client
        finally:
            with suppress(Exception):  # whatever its end comes to (it may be connecting anew just then): what was done is done
                client.close()  # type: ignore[no-untyped-call]

    def _by(self, client: Client, function: Callable[[Any], int], left: dict[int, object]) -> Iterator[int]:
        """Yield the results of tasks as they end, and take them from those that are `left`."""
        futures = {self._submit(client, function, task): number for number, task in left.items()}
        failed: set[int] = set()
        since = time.monotonic()
        while left.keys() - failed:
            done = _ended(client, futures)
            if not done and not self._goes_on(client, time.monotonic() - since):
                return
            if not done and time.monotonic() - since > _SECONDS_OF_PATIENCE:  # their workers do not get on: the first result counts
                futures |= {self._submit(client, function, task): number for number, task in left.items() if number not in failed}
                since = time.monotonic()
            for future in done:
                since = time.monotonic()
                number = futures.pop(future)
                result = self._result(future) if number in left else None
                if isinstance(result, OtherRulesError):
                    self._refuse(str(result))
                    if not self._goes_on(client, _SECONDS_WITHOUT_WORKER):
                        return
                    futures[self._submit(client, function, left[number])] = number
                elif result is not None:
                    del left[number]
                    yield result
                elif number in left:
                    failed.add(number)

    def _goes_on(self, client: Client, waited: float) -> bool:
        """Return whether more may come; raises where the scheduler is lost."""
        if client.status not in ("running", "connecting"):
            raise CommClosedError("its connection ended")
        if self._asked_workers(client) or waited < _SECONDS_WITHOUT_WORKER:
            return True
        self._notice(f"the scheduler at {self._scheduler.address} has no worker of this version")
        return False

    def _refuse(self, worker: str) -> None:
        """Leave out a worker of another version: its answers would be of other rules."""
        if worker not in self._refused:
            self._notice(f"worker {worker} is of another version, and is not asked; install the same on all workers")
        self._refused.add(worker)

    def _submit(self, client: Client, function: Callable[[Any], int], task: object) -> "Future[int]":
        chosen = self._asked_workers(client) if self._refused else []
        return client.submit(function, task, pure=False, retries=_RETRIES, workers=chosen or None)

    def _asked_workers(self, client: Client) -> list[str]:
        return [address for address in client.scheduler_info(n_workers=-1)["workers"] if address not in self._refused]

    def _result(self, future: "Future[int]") -> int | OtherRulesError | None:
        """Return what a task amounts to; ``None`` where it failed, which is said."""
        if future.status in ("cancelled", "lost"):
            raise CommClosedError("its tasks were lost")
        error = future.exception()  # type: ignore[no-untyped-call]
        if error is None:
            return int(future.result())
        if isinstance(error, OtherRulesError):
            return error
        self._notice(f"a part of the work failed on the cluster: {str(error).partition(chr(10))[0] or type(error).__name__}")
        return None


def _ended(client: Client, futures: Iterable["Future[int]"]) -> list["Future[int]"]:
    """Return the futures that have ended, after waiting a moment for the first."""
    with suppress(TimeoutError), client.as_current():
        wait(list(futures), timeout=_TICK, return_when="FIRST_COMPLETED")  # type: ignore[no-untyped-call]
    return [one for one in futures if one.status in ("finished", "error", "cancelled", "lost")]


def _scheduler(named: str) -> _Scheduler:
    parts = urlsplit(named)
    try:
        host, port = parts.hostname or "", parts.port or _PORT
    except ValueError as error:
        raise RequestError(f'engine "{named}" has an invalid port') from error
    if parts.scheme != _SCHEME or not host or parts.path not in ("", "/"):
        raise RequestError(f'"{named}" is not an engine', hint="Such as local, or dask://127.0.0.1:8786.")
    folder = parse_qs(parts.query).get("tls", [""])[-1]
    where = f"[{host}]" if ":" in host else host
    if folder:
        return _Scheduler(f"tls://{where}:{port}", _security(Path(folder)))
    if not _is_this_machine(host):
        raise RequestError(
            f'the scheduler at "{host}" would be reached without TLS', hint="Name a folder of certificates: dask://HOST:PORT?tls=FOLDER."
        )
    return _Scheduler(f"tcp://{where}:{port}", None)


def _is_this_machine(host: str) -> bool:
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


def _security(folder: Path) -> Security:
    files = {name: folder / f"{name}.pem" for name in ("ca", "cert", "key")}
    for path in files.values():
        if not path.is_file():
            raise ReadError(f'there is no "{path}" for TLS with the scheduler', hint="The folder needs ca.pem, cert.pem and key.pem.")
    ca, cert, key = (str(files[name]) for name in ("ca", "cert", "key"))
    return Security(  # type: ignore[no-untyped-call]
        tls_ca_file=ca, tls_client_cert=cert, tls_client_key=key, require_encryption=True
    )
