"""What a source returns."""

import hashlib
import io
import tomllib
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from importlib import resources
from typing import Any

from msgspec import Struct, field

from fidelitas.errors import ReadError
from fidelitas.evidence import Bundle, Identity, MissingItem, make_rows_bundle, read_bundle

__all__ = ["DEADLINE", "Answers", "Collected", "ConnectionLost", "queries", "sealed"]


# How long one subject is read unless it is said otherwise, in seconds.
DEADLINE = 1800.0


class Collected(Struct, frozen=True, kw_only=True):
    """A bundle and the archive that it was read from."""

    bundle: Bundle
    archive: bytes

    @property
    def subject(self) -> str:
        """The name of the subject."""
        return self.bundle.subject

    @property
    def identity(self) -> Identity:
        """What tells the machine from another of the same name."""
        return self.bundle.identity

    @property
    def taken(self) -> datetime:
        """When the evidence was taken."""
        return self.bundle.taken

    @property
    def digest(self) -> str:
        """The SHA-256 of the archive."""
        return hashlib.sha256(self.archive).hexdigest()

    def called(self, name: str) -> "Collected":
        """Return the same evidence under another name for its subject."""
        return Collected(bundle=self.bundle.named(name), archive=self.archive)


class ConnectionLost(Exception):  # noqa: N818 it ends the reading of one server, and what was read of it counts
    """The server went away while it was read."""


class Answers(Struct):
    """What a server has answered so far: listings of rows, and what it did not tell."""

    listings: dict[str, bytes] = field(default_factory=dict)
    gaps: list[MissingItem] = field(default_factory=list)

    def broken_off(self, gone: ConnectionLost) -> None:
        """Note that the server told no more; raises `ReadError` where it had told nothing yet."""
        if not self.listings:
            raise ReadError(str(gone), hint="Survey it again.") from gone
        self.gaps.append(MissingItem(path="server", reason=f"{gone}; not known: whatever is not listed"))


def queries(name: str) -> Mapping[str, Mapping[str, Any]]:
    """Return the table of queries to a kind of server."""
    return tomllib.loads(resources.files(__package__).joinpath(f"{name}.toml").read_text(encoding="utf-8"))


def sealed(subject: str, platform: str, listings: Mapping[str, bytes], tool: str, gaps: Sequence[MissingItem] = ()) -> Collected:
    """Return listings that were taken just now as the evidence of a subject."""
    archive = make_rows_bundle(subject, platform, datetime.now(UTC), listings, tool, gaps)
    return Collected(bundle=read_bundle(io.BytesIO(archive)), archive=archive)
