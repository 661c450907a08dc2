"""A cluster on the loopback of this machine: a scheduler and workers of Dask as processes of their own."""

import os
import re
import subprocess
import sys
import threading
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path

__all__ = ["Cluster", "cluster"]

_AT = re.compile(r"Scheduler at:\s+(?:tcp|tls)://[^:\s]*:(\d+)")
_REGISTERED = re.compile(r"Registered to:")


class Cluster:
    """A scheduler, and workers that can be added and ended; each writes into a file of the folder."""

    def __init__(self, folder: Path, options: tuple[str, ...] = (), port: int = 0) -> None:
        self.folder, self._options = folder, options
        self.workers: list[subprocess.Popen[bytes]] = []
        self.scheduler = self._start("scheduler", "--port", str(port), "--no-dashboard", "--host", "127.0.0.1")
        self.port = int(self._said("scheduler", _AT))

    @property
    def engine(self) -> str:
        return f"dask://127.0.0.1:{self.port}"

    def _start(self, *command: str, env: Mapping[str, str] | None = None, name: str = "") -> subprocess.Popen[bytes]:
        with (self.folder / f"{name or command[0]}.log").open("wb") as log:
            program = [sys.executable, "-m", "distributed.cli.dask_" + command[0], *command[1:], *self._options]
            return subprocess.Popen(program, stdout=log, stderr=log, cwd=self.folder, env={**os.environ, **(env or {})})

    def _said(self, name: str, wanted: re.Pattern[str], seconds: float = 60) -> str:
        """Wait until a process has written something, and return the part that is asked for."""
        tick, path = threading.Event(), self.folder / f"{name}.log"
        for _ in range(int(seconds / 0.05)):
            found = wanted.search(path.read_text(errors="replace"))
            if found:
                return found[found.lastindex or 0]
            tick.wait(0.05)
        raise RuntimeError(path.read_text(errors="replace")[-2000:])

    def add_worker(self, env: Mapping[str, str] | None = None) -> subprocess.Popen[bytes]:
        name = f"worker{len(self.workers)}"
        scheme = "tls" if self._options else "tcp"
        address = f"{scheme}://127.0.0.1:{self.port}"
        options = ("--nthreads", "1", "--no-nanny", "--no-dashboard", "--host", "127.0.0.1", "--name", name)
        started = self._start("worker", address, *options, env=env, name=name)
        self.workers.append(started)
        self._said(name, _REGISTERED)
        return started

    def stop(self) -> None:
        for process in (*self.workers, self.scheduler):
            process.kill()
            process.wait()


@contextmanager
def cluster(folder: Path, workers: int, options: tuple[str, ...] = ()) -> Iterator[Cluster]:
    found = Cluster(folder, options)
    try:
        for _ in range(workers):
            found.add_worker()
        yield found
    finally:
        found.stop()
