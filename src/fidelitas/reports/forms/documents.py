"""A report as a JSON document (RFC 8259)."""

import json
import re
from collections.abc import Iterable, Iterator
from itertools import islice
from typing import Any

import msgspec

from fidelitas.reports.forms.screen import Screen
from fidelitas.reports.report import Listed, Report

__all__ = ["json_text", "render"]

_NOT_ASCII = re.compile(r"[^\x00-\x7f]+")
_INDENT = "  "
# So many things of a list are written at once.
_TOGETHER = 2000


def render(report: Report, _: Screen) -> Iterator[str]:
    """Yield the document, piece by piece: ASCII only, so that no terminal obeys what is in it."""
    document = report.document()
    if not isinstance(document, dict) or not document:
        yield json_text(document) + "\n"
        return
    before = "{"
    for key, value in document.items():
        yield f"{before}\n{_INDENT}{json.dumps(key)}: "
        yield from _listed(value) if isinstance(value, list | Listed) else (_indented(json_text(value)),)
        before = ","
    yield "\n}\n"


def _listed(things: Iterable[Any]) -> Iterator[str]:
    """Yield a list within the document, some of its things at a time."""
    coming, before = iter(things), "["
    while some := list(islice(coming, _TOGETHER)):
        yield before + _indented(json_text(some))[1 : -len(f"\n{_INDENT}]")]
        before = ","
    yield f"\n{_INDENT}]" if before == "," else "[]"


def _indented(text: str) -> str:
    """Return JSON as it stands within the document; a line end within it is none of a string's."""
    return text.replace("\n", f"\n{_INDENT}")


def json_text(document: Any) -> str:
    """Return a document as JSON with its lines indented; large ones are made of one piece, where the standard library makes millions."""
    try:
        text = msgspec.json.format(msgspec.json.encode(document), indent=len(_INDENT)).decode()
    except (msgspec.MsgspecError, UnicodeError, TypeError):  # bytes that are no text, kept as surrogates
        return json.dumps(document, indent=len(_INDENT))
    return _NOT_ASCII.sub(lambda found: json.dumps(found[0])[1:-1], text)
