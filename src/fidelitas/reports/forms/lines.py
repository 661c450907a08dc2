"""A report as JSON Lines: the head of its document first, then each object of its lists in a line that names the list.

So a program reads a long listing object by object; put together again, the lines are the JSON document.
"""

import json
from collections.abc import Iterator
from typing import Any

from fidelitas.reports.forms.documents import whole
from fidelitas.reports.forms.screen import Screen
from fidelitas.reports.report import Listed, Report

__all__ = ["render"]


def render(report: Report, _: Screen) -> Iterator[str]:
    """Yield the lines; ASCII only, so that no terminal obeys what is in them."""
    document: dict[str, Any] = report.document()
    lists = {name: value for name, value in document.items() if isinstance(value, list | Listed)}
    head = {name: [] if name in lists else value for name, value in document.items()}
    yield json.dumps(head, default=whole) + "\n"
    for name, value in lists.items():
        for one in value:
            yield json.dumps({"list": name, "object": one}) + "\n"
