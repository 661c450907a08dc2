"""Reports: an audit as text.  They return text and print nothing.

Each module makes a `Report` of one kind of answer: parts for a reader, rows, and a JSON document; `fidelitas.reports.forms` renders it in
the form that was asked for.
"""

from fidelitas.reports.report import Part, Report, report_of
from fidelitas.reports.table import Table

__all__ = ["Part", "Report", "Table", "report_of"]
