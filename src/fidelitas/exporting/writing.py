"""An export as files: a CSV file for each table (RFC 4180), and all tables in one database of SQLite."""

import csv
import os
import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import closing
from pathlib import Path

from fidelitas.errors import ReadError, RequestError
from fidelitas.exporting.tables import ExportTable, Value
from fidelitas.text import escape_control, spreadsheet_safe

__all__ = ["DATABASE", "write_tables"]

DATABASE = "fidelitas.sqlite"


def write_tables(folder: Path, tables: Iterable[ExportTable]) -> dict[str, int]:
    """Write tables into a new folder, for its owner alone; return how many rows each has.

    Raises `RequestError` where the folder is there already, `ReadError` where it cannot be written.
    """
    try:
        folder.mkdir(mode=0o700, parents=True)
        with closing(sqlite3.connect(_new(folder / DATABASE))) as database:
            counts = {table.name: _write(folder, database, table) for table in tables}
            database.commit()
    except FileExistsError:
        raise RequestError(f'"{folder}" exists', hint="Name a folder that is not there yet.") from None
    except (OSError, sqlite3.Error) as error:
        raise ReadError(f'could not write "{folder}": {error}', hint="Name another folder.") from error
    return counts


def _new(file: Path) -> Path:
    os.close(os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600))
    return file


def _write(folder: Path, database: sqlite3.Connection, table: ExportTable) -> int:
    """Write one table to both, in one pass over its rows."""
    columns = ", ".join(f"{name} {kind}" for name, kind in table.columns)
    marks = ", ".join("?" * len(table.columns))
    database.execute(f"CREATE TABLE {table.name} ({columns})")
    count = 0
    with _new(folder / f"{table.name}.csv").open("w", encoding="utf-8", newline="") as stream:
        writer = csv.writer(stream)
        writer.writerow(name for name, _ in table.columns)
        for row in _shown(table.rows):
            database.execute(f"INSERT INTO {table.name} VALUES ({marks})", row)  # noqa: S608 our own names
            writer.writerow(spreadsheet_safe(value) if isinstance(value, str) else value for value in row)
            count += 1
    return count


def _shown(rows: Iterable[tuple[Value, ...]]) -> Iterator[tuple[Value, ...]]:
    return (tuple(escape_control(value) if isinstance(value, str) else value for value in row) for row in rows)
