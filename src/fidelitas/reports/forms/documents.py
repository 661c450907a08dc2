"""A report as a JSON document (RFC 8259)."""

import json
import re
from collections.abc import Iterable, Iterator
from itertools import islice
from typing import Any

import msgspec

from fidelitas.reports.forms.screen import Screen
from fidelitas.reports.report import Listed, Report

__all__ = ["json_text", "render", "whole"]

_NOT_ASCII = re.compile(r"[^\x00-\x7f]+")
_INDENT = "  "
# This many things of a list are written at once, and fewer of long ones: about this many characters.
_MOST_TOGETHER, _PIECE = 200, 1 << 18
_DEEPEST = 2  # documents within a document


def render(report: Report, _: Screen) -> Iterator[str]:
    """Yield the document, piece by piece: ASCII only, so that no terminal obeys what is in it."""
    yield from _pieces(report.document(), 0)
    yield "\n"


def _pieces(value: Any, depth: int) -> Iterator[str]:
    """Yield a value that stands so deep within the document; only what is long is parted."""
    if isinstance(value, dict) and depth < _DEEPEST and any(isinstance(part, dict | list | Listed) for part in value.values()):
        before = "{"
        for key, part in value.items():
            yield f"{before}\n{_INDENT * (depth + 1)}{json.dumps(key)}: "
            yield from _pieces(part, depth + 1)
            before = ","
        yield f"\n{_INDENT * depth}}}"
    elif isinstance(value, list | Listed):
        yield from _listed(value, depth)
    else:
        yield _indented(json_text(value), depth)


def _listed(things: Iterable[Any], depth: int) -> Iterator[str]:
    """Yield a list within the document, some of its things at a time."""
    coming, before, end, together = iter(things), "[", f"\n{_INDENT * depth}]", 1
    while some := list(islice(coming, together)):
        text = _indented(json_text(some), depth)
        yield before + text[1 : -len(end)]
        before, together = ",", max(1, min(_MOST_TOGETHER, together * _PIECE // len(text)))
    yield end if before == "," else "[]"


def _indented(text: str, depth: int) -> str:
    """Return JSON as it stands within the document; a line end within it is none of a string's."""
    return text.replace("\n", f"\n{_INDENT * depth}") if depth else text


def json_text(document: Any) -> str:
    """Return a document as JSON with its lines indented; large ones are made of one piece, where the standard library makes millions."""
    try:
        text = msgspec.json.format(msgspec.json.encode(document, enc_hook=whole), indent=len(_INDENT)).decode()
    except (msgspec.MsgspecError, UnicodeError, TypeError):  # bytes that are no text, kept as surrogates
        return json.dumps(document, indent=len(_INDENT), default=whole)
    return _NOT_ASCII.sub(lambda found: json.dumps(found[0])[1:-1], text)


def whole(value: object) -> list[Any]:
    """Return a list that is made when it is written; raises `TypeError` for anything else."""
    if isinstance(value, Listed):
        return list(value)
    raise TypeError(f"{type(value).__name__} cannot be written as part of a document")
