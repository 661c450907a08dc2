"""A PostgreSQL server in a scratch folder, for tests that ask it."""

import os
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from types import TracebackType
from typing import Self

import psycopg

from support import open_up

BINARIES = next(iter(sorted(Path("/usr/lib/postgresql").glob("*/bin"), reverse=True)), Path("/nowhere"))
SUPERUSER = "postgres"


class Server:
    """A running server, reached by a socket in its folder; everybody on this machine is trusted there."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.port = 54000 + os.getpid() % 1000
        data, socket = folder / "data", folder / "s"
        open_up(folder)
        for path in (data, socket):
            path.mkdir()
            shutil.chown(path, SUPERUSER)
        self._as(BINARIES / "initdb", "-D", data, "-U", SUPERUSER, "--auth=trust", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
        with (data / "postgresql.conf").open("a") as settings:
            settings.write(f"listen_addresses = ''\nport = {self.port}\nunix_socket_directories = '{socket}'\nfsync = off\n")
        self._data, self.socket = data, socket

    def _as(self, *command: str | Path) -> None:
        subprocess.run(["runuser", "-u", SUPERUSER, "--", *command], check=True, capture_output=True, cwd="/", timeout=60)

    def start(self) -> None:
        self._as(BINARIES / "pg_ctl", "-D", self._data, "-l", self._data / "log", "-w", "-t", "30", "start")

    def stop(self) -> None:
        self._as(BINARIES / "pg_ctl", "-D", self._data, "-m", "immediate", "-w", "stop")

    def parameters(self, database: str = "postgres", role: str = SUPERUSER) -> str:
        return f"host={self.socket} port={self.port} dbname={database} user={role}"

    def connect(self, database: str = "postgres", role: str = SUPERUSER) -> psycopg.Connection[tuple[object, ...]]:
        return psycopg.connect(self.parameters(database, role), autocommit=True)

    def run(self, text: str, database: str = "postgres") -> None:
        with self.connect(database) as connection:
            for statement in filter(str.strip, text.split(";\n")):
                connection.execute(statement.encode())

    def access(self, text: str) -> None:
        """Put rules of access in front of those that are there."""
        path = self._data / "pg_hba.conf"
        path.write_text(text + path.read_text())
        self.run("select pg_reload_conf()")

    def __enter__(self) -> Self:
        self.start()
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.stop()


@contextmanager
def scratch_server(folder: Path) -> Iterator[Server]:
    with Server(folder) as server:
        yield server
