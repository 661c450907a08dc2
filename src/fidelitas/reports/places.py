"""Places in JSON documents."""

from typing import Any

from fidelitas.text import Place

__all__ = ["place_document"]


def place_document(place: Place) -> dict[str, Any]:
    """Return the JSON form of a place."""
    return {"subject": place.subject, "path": place.path, "line": place.line, "column": place.column}
