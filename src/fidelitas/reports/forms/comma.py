"""A report as comma-separated values (RFC 4180): all rows, an empty line between tables."""

import csv
import io

from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.forms.screen import Screen
from fidelitas.reports.report import Report
from fidelitas.reports.table import Table
from fidelitas.text import escape_control, spreadsheet_safe

__all__ = ["render"]


def render(report: Report, _: Screen) -> str:
    """Return the rows of a report; blocks are a table of headline, label and text."""
    parts = (report.rows or report.parts)()
    tables = [part for part in parts if isinstance(part, Table)]
    blocks = [part for part in parts if isinstance(part, Block)]
    return "\n".join(_csv(table) for table in (*tables, *([_of_blocks(blocks)] if blocks else [])))


def _of_blocks(blocks: list[Block]) -> Table:
    rows = [(block.headline, row.label.rstrip(":"), row.text) for block in blocks for row in block.rows or (Row(""),)]
    return Table(columns=("about", "label", "text"), rows=tuple(rows))


def _csv(table: Table) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(column.lower().replace(" ", "_") for column in table.columns)
    writer.writerows([_cell(text) for text in row] for row in table.rows)
    return out.getvalue()


def _cell(text: str) -> str:
    return spreadsheet_safe(escape_control(text))
