"""A report as a JSON document (RFC 8259)."""

import json
import re
from typing import Any

import msgspec

from fidelitas.reports.forms.screen import Screen
from fidelitas.reports.report import Report

__all__ = ["json_text", "render"]

_NOT_ASCII = re.compile(r"[^\x00-\x7f]+")


def render(report: Report, _: Screen) -> str:
    """Return the document: ASCII only, so that no terminal obeys what is in it."""
    return json_text(report.document()) + "\n"


def json_text(document: Any) -> str:
    """Return a document as JSON with its lines indented; large ones are made of one piece, where the standard library makes millions."""
    try:
        text = msgspec.json.format(msgspec.json.encode(document), indent=2).decode()
    except (msgspec.MsgspecError, UnicodeError, TypeError):  # bytes that are no text, kept as surrogates
        return json.dumps(document, indent=2)
    return _NOT_ASCII.sub(lambda found: json.dumps(found[0])[1:-1], text)
