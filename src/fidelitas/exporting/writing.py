"""An export as files: of each table a CSV file (RFC 4180) and files of further forms, and all tables in one database of SQLite."""

import csv
import os
import sqlite3
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import ExitStack, closing
from pathlib import Path
from types import MappingProxyType
from typing import Protocol

from fidelitas.errors import ReadError, RequestError
from fidelitas.exporting.tables import ExportTable, Value
from fidelitas.text import escape_control, spreadsheet_safe

__all__ = ["DATABASE", "Further", "Sink", "write_tables"]

DATABASE = "fidelitas.sqlite"
Row = tuple[Value, ...]
# So many rows are written at once, and no more are kept.
_BATCH = 10_000


class Sink(Protocol):
    """Takes the next rows of a table."""

    def __call__(self, rows: Sequence[Row], /) -> object: ...


# Further forms of a table, by the suffix of their files: each makes what takes the rows.
Further = Mapping[str, Callable[[Path, ExportTable, ExitStack], Sink]]


def write_tables(folder: Path, tables: Iterable[ExportTable], further: Further = MappingProxyType({})) -> dict[str, int]:
    """Write tables into a new folder, for its owner alone; return how many rows each has.

    Raises `RequestError` where the folder is there already, `ReadError` where it cannot be written.
    """
    try:
        folder.mkdir(mode=0o700, parents=True)
        with closing(sqlite3.connect(_new(folder / DATABASE))) as database:
            counts = {table.name: _write(folder, database, table, further) for table in tables}
            database.commit()
    except FileExistsError:
        raise RequestError(f'"{folder}" exists', hint="Name a folder that is not there yet.") from None
    except (OSError, sqlite3.Error) as error:
        raise ReadError(f'could not write "{folder}": {error}', hint="Name another folder.") from error
    return counts


def _new(file: Path) -> Path:
    os.close(os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600))
    return file


def _write(folder: Path, database: sqlite3.Connection, table: ExportTable, further: Further) -> int:
    """Write one table to all, in one pass over its rows."""
    with ExitStack() as open_files:
        sinks = [_into_database(database, table), _into_csv(_new(folder / f"{table.name}.csv"), table, open_files)]
        sinks += [into(_new(folder / f"{table.name}.{suffix}"), table, open_files) for suffix, into in further.items()]
        batches = _Batches(sinks)
        table.feed(batches.add)
        batches.flush()
        return batches.count


class _Batches:
    """Rows on their way to all sinks."""

    def __init__(self, sinks: Sequence[Sink]) -> None:
        self.count = 0
        self._sinks = sinks
        self._rows: list[Row] = []

    def add(self, row: Row) -> None:
        self._rows.append(tuple(escape_control(value) if isinstance(value, str) else value for value in row))
        if len(self._rows) >= _BATCH:
            self.flush()

    def flush(self) -> None:
        for sink in self._sinks:
            sink(self._rows)
        self.count += len(self._rows)
        self._rows = []


def _into_database(database: sqlite3.Connection, table: ExportTable) -> Sink:
    columns = ", ".join(f"{name} {kind}" for name, kind in table.columns)
    marks = ", ".join("?" * len(table.columns))
    database.execute(f"CREATE TABLE {table.name} ({columns})")
    return lambda rows: database.executemany(f"INSERT INTO {table.name} VALUES ({marks})", rows)  # noqa: S608 our own names


def _into_csv(file: Path, table: ExportTable, open_files: ExitStack) -> Sink:
    writer = csv.writer(open_files.enter_context(file.open("w", encoding="utf-8", newline="")))
    writer.writerow(name for name, _ in table.columns)
    return lambda rows: writer.writerows([spreadsheet_safe(one) if isinstance(one, str) else one for one in row] for row in rows)
