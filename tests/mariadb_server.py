"""A MariaDB server in a scratch folder, for tests that ask it."""

import os
import shutil
import socket
import subprocess
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import pymysql

from support import open_up

MEMORY = Path("/dev/shm")
PROGRAM = shutil.which("mariadbd")
ACCOUNT = "mysql"


class Server:
    """A running server, reached by a socket and a port of this machine; root is let in by the socket."""

    def __init__(self, folder: Path, *options: str) -> None:
        self._options = options
        self.socket = folder / "s"
        self._root: pymysql.Connection[Any] | None = None
        open_up(folder)
        shutil.chown(folder, ACCOUNT)
        data = folder / "data"
        install = ["mariadb-install-db", "--no-defaults", f"--user={ACCOUNT}", f"--datadir={data}", "--skip-name-resolve", "--skip-test-db"]
        subprocess.run(
            [*install, "--auth-root-authentication-method=socket", "--auth-root-socket-user=root"],
            check=True,
            capture_output=True,
            timeout=120,
        )
        # A port that was free a moment ago can be someone's by now: then another is tried.
        if not any(self._starts(folder) for _ in range(3)):
            raise RuntimeError((folder / "error").read_text(errors="replace")[-2000:])

    def _starts(self, folder: Path) -> bool:
        with socket.create_server(("127.0.0.1", 0)) as free:
            self.port = int(free.getsockname()[1])
        options = [
            f"--user={ACCOUNT}",
            f"--datadir={folder / 'data'}",
            f"--socket={self.socket}",
            f"--port={self.port}",
            "--bind-address=127.0.0.1",
        ]
        limits = [
            "--skip-name-resolve",
            "--innodb-buffer-pool-size=32M",
            "--innodb-flush-log-at-trx-commit=0",
            f"--log-error={folder}/error",
        ]
        self._running = subprocess.Popen([PROGRAM or "mariadbd", "--no-defaults", *options, *limits, *self._options])
        ping: list[str | Path] = [
            "mariadb-admin",
            "--no-defaults",
            "-S",
            self.socket,
            "-u",
            "root",
            "--connect-timeout=30",
            "--wait=1",
            "ping",
        ]
        for _ in range(90):
            if subprocess.run(ping, check=False, capture_output=True, timeout=60).returncode == 0:
                return True
            if self._running.poll() is not None:
                return False
        self.stop()
        return False

    @property
    def uri(self) -> str:
        return f"mariadb://root@/?socket={self.socket}"

    def connect(self, **options: Any) -> "pymysql.Connection[Any]":
        chosen = options or {"unix_socket": str(self.socket), "user": "root"}
        return pymysql.connect(**{"connect_timeout": 5, "autocommit": True, **chosen})

    def run(self, *statements: str) -> list[Sequence[Any]]:
        if self._root is None:
            self._root = self.connect()
        with self._root.cursor() as cursor:
            for statement in statements:
                cursor.execute(statement)
            return list(cursor.fetchall())

    def stop(self) -> None:
        if self._root is not None:
            self._root.close()
        self._running.terminate()
        self._running.wait(30)


@contextmanager
def scratch_server(folder: Path, *options: str) -> Iterator[Server]:
    with TemporaryDirectory(dir=MEMORY if os.access(MEMORY, os.W_OK) else folder) as scratch:  # each grant waits for the disk
        server = Server(Path(scratch), *options)
        try:
            yield server
        finally:
            server.stop()
