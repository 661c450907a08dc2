"""A report as a JSON document (RFC 8259)."""

import json

from fidelitas.reports.forms.screen import Screen
from fidelitas.reports.report import Report

__all__ = ["render"]


def render(report: Report, _: Screen) -> str:
    """Return the document: ASCII only, so that no terminal obeys what is in it."""
    return json.dumps(report.document(), indent=2) + "\n"
