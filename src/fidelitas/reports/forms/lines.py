"""A report as JSON Lines: the head of its document first, then each object of its lists in a line that names the list.

So a program reads a long listing object by object; put together again, the lines are the JSON document.
"""

import json
from typing import Any

from fidelitas.reports.forms.screen import Screen
from fidelitas.reports.report import Report

__all__ = ["render"]


def render(report: Report, _: Screen) -> str:
    """Return the lines; ASCII only, so that no terminal obeys what is in them."""
    document: dict[str, Any] = report.document()
    lists = {name: value for name, value in document.items() if isinstance(value, list)}
    head = {name: [] if name in lists else value for name, value in document.items()}
    lines = [head, *({"list": name, "object": one} for name, value in lists.items() for one in value)]
    return "".join(json.dumps(line) + "\n" for line in lines)
