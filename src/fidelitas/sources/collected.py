"""What a source returns."""

import io
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from importlib import resources
from typing import Any

from fidelitas.evidence import Bundle, MissingItem, make_rows_bundle, read_bundle

__all__ = ["Answers", "Collected", "queries", "sealed"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Collected:
    """A bundle and the archive that it was read from."""

    bundle: Bundle
    archive: bytes


@dataclass(slots=True)
class Answers:
    """What a server has answered so far: listings of rows, and what it did not tell."""

    listings: dict[str, bytes] = field(default_factory=dict)
    gaps: list[MissingItem] = field(default_factory=list)


def queries(name: str) -> Mapping[str, Mapping[str, Any]]:
    """Return the table of queries to a kind of server."""
    return tomllib.loads(resources.files(__package__).joinpath(f"{name}.toml").read_text(encoding="utf-8"))


def sealed(subject: str, platform: str, listings: Mapping[str, bytes], tool: str, gaps: Sequence[MissingItem] = ()) -> Collected:
    """Return listings that were taken just now as the evidence of a subject."""
    archive = make_rows_bundle(subject, platform, datetime.now(UTC), listings, tool, gaps)
    return Collected(bundle=read_bundle(io.BytesIO(archive)), archive=archive)
