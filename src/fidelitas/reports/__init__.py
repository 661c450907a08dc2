"""Reports: an audit as text.  They return text and print nothing.

Each report builds a neutral `Table` or a list of blocks and a JSON document; `render` turns a table into the form that was asked for.
"""

from fidelitas.reports.table import FORMATS, Table, render

__all__ = ["FORMATS", "Table", "render"]
