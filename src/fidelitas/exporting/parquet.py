"""A table as a file of Apache Parquet, for column stores and data frames.  Needs pyarrow, an optional part of the installation."""

from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path

import pyarrow as pa
from pyarrow.parquet import ParquetWriter

from fidelitas.exporting.tables import ExportTable, Value
from fidelitas.exporting.writing import Sink

__all__ = ["into_parquet"]

_TYPES = {"TEXT": pa.string(), "INTEGER": pa.int64()}


def into_parquet(file: Path, table: ExportTable, open_files: ExitStack) -> Sink:
    """Return what writes rows of a table into a file, which is complete once `open_files` is closed."""
    schema = pa.schema([(name, _TYPES[kind]) for name, kind in table.columns])
    writer = open_files.enter_context(ParquetWriter(file, schema))

    def write(rows: Sequence[tuple[Value, ...]]) -> None:
        writer.write_table(pa.table([[row[at] for row in rows] for at in range(len(schema))], schema=schema))

    return write
