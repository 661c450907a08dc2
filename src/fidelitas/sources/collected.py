"""What a source returns."""

from dataclasses import dataclass

from fidelitas.evidence import Bundle

__all__ = ["Collected"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Collected:
    """A bundle and the archive that it was read from."""

    bundle: Bundle
    archive: bytes
