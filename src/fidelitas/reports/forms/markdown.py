"""A report in Markdown, with the tables that GitHub and most readers know."""

from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.forms.screen import Screen
from fidelitas.reports.report import Part, Report
from fidelitas.reports.table import Table
from fidelitas.text import escape_control

__all__ = ["render"]


def render(report: Report, _: Screen) -> str:
    """Return a report, its parts parted by empty lines."""
    answer = "  \n".join(map(_text, report.answer()))
    return "\n".join(filter(None, (f"{answer}\n" if answer else "", *map(_part, report.parts()))))


def _part(part: Part) -> str:
    if isinstance(part, Table):
        return _table(part)
    if isinstance(part, Block):
        return f"### {_text(part.headline)}\n" + ("\n" if part.rows else "") + "".join(map(_row, part.rows))
    text = part.strip("\n")
    return f"{_text(text)}\n" if text else ""


def _row(row: Row) -> str:
    """Return a row as an item of a list, below the item before it where it is indented further."""
    return f"{'  ' * (row.indent // 4)}- {_text(f'{row.label} {row.text}'.strip())}\n"


def _table(table: Table) -> str:
    lines = [table.columns, tuple("---" for _ in table.columns), *table.rows]
    return "".join("| " + " | ".join(_text(text) for text in line) + " |\n" for line in lines)


def _text(text: str) -> str:
    shown = escape_control(text)
    for character in ("\\", "|", "`", "*", "_", "<", "[", "#"):
        shown = shown.replace(character, f"\\{character}" if character != "<" else "&lt;")
    return shown
