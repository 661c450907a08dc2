"""Where a ledger is, and how it is opened: a file of SQLite, or a database of PostgreSQL; both by SQLAlchemy.

    FOLDER                      the file ledger.sqlite in it, made for its owner alone
    FILE.sqlite                 that file
    postgresql://HOST/DATABASE  a database, by libpq's own parameters; ``service=NAME`` names one of its service file

Knows how to connect and how faults are reported; not what is stored.
"""

import os
import sqlite3
import stat
import weakref
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import quote

from msgspec import Struct
from sqlalchemy import Connection, Engine, create_engine, event, exc, inspect, text
from sqlalchemy.pool import QueuePool

from fidelitas.errors import LedgerError

__all__ = ["AT_ONCE", "FILE", "HEAD", "Database", "Place", "batches", "insert_new", "place_of"]

T = TypeVar("T")

FILE = "ledger.sqlite"
# The newest migration in migrations/versions: a test holds both together.
HEAD = "0004"
# Variables of one statement: SQLite takes 999 in its older versions.
AT_ONCE = 400
_SECONDS_TO_WAIT = 60  # for another survey that is writing
_LOCAL_HOSTS = ("", "localhost", "127.0.0.1", "::1")
_ALONE = {"isolation_level": "AUTOCOMMIT", "alone": True}
_VERIFIED = ("verify-ca", "verify-full")


class Place(Struct, frozen=True):
    """Where a ledger is: a file, or the parameters of a connection."""

    file: Path | None = None
    parameters: str = ""
    folder: Path | None = None  # where the file is in one that the ledger has for itself

    def __str__(self) -> str:
        if self.file is None:
            return self.parameters
        return str(self.folder or self.file)


def place_of(named: str | Path) -> Place:
    """Return where a ledger is that was named by a folder, a file or the parameters of a connection."""
    if isinstance(named, str) and (named.startswith(("postgresql://", "postgres://", "service="))):
        return Place(parameters=named)
    path = Path(named)
    if path.suffix == ".sqlite" and not path.is_dir():
        return Place(file=path)
    return Place(file=path / FILE, folder=path)


class Database:
    """An opened ledger.  Faults of reading and writing become `LedgerError`."""

    def __init__(self, place: Place) -> None:
        self.place = place
        self._engine: Engine | None = None
        self._process = os.getpid()
        self._of_parents: list[Engine] = []

    @property
    def exists(self) -> bool:
        """Whether there is something to read: of a server this is known once it was asked."""
        return self.place.file is None or self.place.file.is_file()

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """Give a connection to read by."""
        with self._faults("read"), self._opened().connect() as connection:
            yield connection

    @contextmanager
    def writing(self) -> Iterator[Connection]:
        """Give a connection whose changes all take effect at the end, or none of them; the first one makes the tables."""
        with self._faults("write to"):
            self._prepare()
            with self._opened().execution_options(writing=True).begin() as connection:
                yield connection

    @contextmanager
    def alone(self) -> Iterator[Connection]:
        """Give a connection outside of any transaction, for what the database does by itself, such as giving space back."""
        with self._faults("write to"), self._opened().execution_options(**_ALONE).connect() as connection:
            yield connection

    def close(self) -> None:
        """Let go of all connections."""
        if self._engine is not None:
            self._engine.dispose()
            self._engine = None

    @contextmanager
    def _faults(self, doing: str) -> Iterator[None]:
        try:
            yield
        except (exc.SQLAlchemyError, sqlite3.Error, OSError, UnicodeError) as error:
            hint = _hint(error, self.place)
            raise LedgerError(f'could not {doing} ledger "{self.place}": {_reason(error)}', hint=hint) from error

    def _opened(self) -> Engine:
        if self._process != os.getpid():  # a connection is not to be used, nor closed, in a process that was forked since
            self._of_parents += [self._engine] if self._engine is not None else []
            self._engine, self._process = None, os.getpid()
        if self._engine is None:
            self._engine = self._made()
            self._check_tables(self._engine)
        return self._engine

    def _check_tables(self, engine: Engine) -> None:
        """Bring the tables of an earlier version to this one; raises `LedgerError` where that is not allowed."""
        with engine.connect() as connection:
            version = _check_version(connection, self.place)
        if version is not None and version != HEAD:
            try:
                self._upgrade(engine)
            except (exc.SQLAlchemyError, sqlite3.Error, OSError) as error:
                raise LedgerError(
                    f'ledger "{self.place}" is of an earlier version, and could not be brought to this one: {_reason(error)}',
                    hint="Have one who may write to it survey once, or copy it and name the copy.",
                ) from error

    def _upgrade(self, engine: Engine) -> None:
        # Brings a library that reading does without.
        from fidelitas.ledger.migrations.run import upgrade  # noqa: PLC0415

        with engine.execution_options(writing=True).begin() as connection:
            upgrade(connection)

    def _made(self) -> Engine:
        engine = _engine(self.place)
        weakref.finalize(self, engine.dispose)  # a connection does not outlive the ledger that was opened by it
        return engine

    def _prepare(self) -> None:
        """Make the file and the tables where they are not there yet."""
        if self.place.file is not None and not self.place.file.exists():
            _make_file(self.place.file, own_folder=self.place.folder is not None)
        engine = self._engine or self._made()
        self._engine = engine
        with engine.connect() as connection:
            version = _check_version(connection, self.place)
        if version != HEAD:
            self._upgrade(engine)


def batches(values: Iterable[T]) -> Iterator[list[T]]:
    """Yield values, each once, in lists that one statement can have as variables."""
    wanted = list(dict.fromkeys(values))
    return (wanted[begins : begins + AT_ONCE] for begins in range(0, len(wanted), AT_ONCE))


def insert_new(connection: Connection, table: Any, rows: list[dict[str, Any]]) -> None:
    """Add rows, but for those whose key is there."""
    if connection.dialect.name == "postgresql":
        from sqlalchemy.dialects.postgresql import insert  # noqa: PLC0415 a file needs none of it, and many commands write nothing
    else:
        from sqlalchemy.dialects.sqlite import insert  # type: ignore[assignment] # noqa: PLC0415
    if rows:
        connection.execute(insert(table).on_conflict_do_nothing(), rows)


def _engine(place: Place) -> Engine:
    if place.file is None:
        return create_engine("postgresql+psycopg://", creator=lambda: _connect_server(place.parameters))
    file = place.file
    engine = create_engine("sqlite://", creator=lambda: _connect_file(file), pool_size=1, poolclass=QueuePool)
    event.listen(engine, "begin", _begin)
    return engine


def _begin(connection: Connection) -> None:
    """Begin a transaction that writes as one from its start: two that became so half-way would stop each other."""
    if connection.get_execution_options().get("alone"):
        return
    connection.exec_driver_sql("BEGIN IMMEDIATE" if connection.get_execution_options().get("writing") else "BEGIN")


def _connect_file(file: Path) -> sqlite3.Connection:
    """Return a connection to a file, which is only read where nothing can be written; raises `OSError` for a file of someone else."""
    state = file.lstat()
    if not stat.S_ISREG(state.st_mode) or state.st_uid not in (0, os.geteuid()) or state.st_mode & 0o022:
        raise PermissionError(1, "another user owns it or can write to it")
    writable = os.access(file, os.W_OK) and os.access(file.parent, os.W_OK)
    left = file.with_name(f"{file.name}-wal")
    mode = "mode=rw" if writable else "mode=ro" if left.exists() and left.stat().st_size else "mode=ro&immutable=1"
    connection = sqlite3.connect(
        f"file:{quote(str(file))}?{mode}", uri=True, isolation_level=None, check_same_thread=False, timeout=_SECONDS_TO_WAIT
    )
    for setting in ("trusted_schema = off", "cell_size_check = on", "foreign_keys = on", "synchronous = normal"):
        connection.execute(f"pragma {setting}")
    if writable and connection.execute("pragma journal_mode").fetchone() != ("wal",):
        with suppress(sqlite3.OperationalError):  # another command has it open at this moment, and will see to it
            connection.execute("pragma journal_mode = wal")
    return connection


def _connect_server(parameters: str) -> Any:
    """Return a connection to a server; raises `LedgerError` where a server elsewhere would not have to prove that it is the one."""
    try:
        import psycopg  # noqa: PLC0415 an extra
        from psycopg import conninfo  # noqa: PLC0415
    except ModuleNotFoundError as error:
        hint = "pip install 'fidelitas[postgresql]'"
        raise LedgerError("psycopg, needed for a ledger in PostgreSQL, is not installed", hint=hint) from error
    stated = conninfo.conninfo_to_dict(parameters)
    if "password" in stated:
        raise LedgerError("a password on the command line can be read by every user of this machine", hint="Put it into ~/.pgpass.")
    connection = psycopg.connect(parameters, connect_timeout=15, application_name="fidelitas")
    host = connection.info.host
    if not (host.startswith("/") or host in _LOCAL_HOSTS) and connection.info.get_parameters().get("sslmode") not in _VERIFIED:
        connection.close()
        raise LedgerError(
            f'the server "{host}" would not have to prove that it is the one', hint="Add sslmode=verify-full to the connection parameters."
        )
    return connection


def _check_version(connection: Connection, place: Place) -> str | None:
    """Return the version of the tables, ``None`` where there are none; raises `LedgerError` for one that this program does not know."""
    if not inspect(connection).has_table("alembic_version"):
        return None
    version = connection.execute(text("select version_num from alembic_version")).scalar()
    if version is not None and version > HEAD:
        raise LedgerError(f'ledger "{place}" was made by a newer version of this program', hint="Use that version, or another ledger.")
    return version


def _make_file(file: Path, *, own_folder: bool) -> None:
    if own_folder:
        file.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    os.close(os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600))


def _reason(error: BaseException) -> str:
    cause = getattr(error, "orig", None) or error
    return getattr(cause, "strerror", None) or " ".join(str(cause).split()) or type(cause).__name__


def _hint(error: BaseException, place: Place) -> str:
    if place.file is None:
        return "Is the server up, and may this account use the database?"
    if "malformed" in str(error) or "not a database" in str(error):
        return '"fidelitas ledger verify" says what is damaged and what can still be answered.'
    return "Name another place with --ledger."
