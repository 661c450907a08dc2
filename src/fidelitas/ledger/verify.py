"""A ledger held against itself: is the evidence of every survey there, and is it what it was when it came?"""

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import zstandard

from fidelitas.errors import LedgerError
from fidelitas.ledger.folder import Ledger, Survey

__all__ = ["Damage", "Extent", "damages", "extent"]

_BLOCK = 1 << 20


@dataclass(frozen=True, slots=True)
class Damage:
    """Evidence that is not what it was: of which subjects of which surveys, where, and why."""

    path: Path
    why: str
    subjects: tuple[str, ...]
    surveys: tuple[str, ...]
    is_newest: bool  # whether the newest evidence of a subject is lost


@dataclass(frozen=True, slots=True)
class Extent:
    """How much a ledger holds: its surveys, subjects and pieces of evidence, the bytes of these, and unfinished surveys."""

    surveys: tuple[Survey, ...]
    subjects: int
    pieces: int
    size: int
    unfinished: int


def extent(ledger: Ledger) -> Extent:
    """Return how much a ledger holds; raises `LedgerError` where it cannot be read."""
    surveys = ledger.surveys()
    try:
        pieces = [path.stat().st_size for path in (ledger.path / "evidence").glob("*/*.tar.zst")]
        unfinished = len(list((ledger.path / "surveys").glob("*.unfinished")))
    except OSError as error:
        raise LedgerError(f'could not read ledger "{ledger.path}": {error.strerror or error}') from error
    names = {name for survey in surveys for name in survey.subjects}
    return Extent(surveys, len(names), len(pieces), sum(pieces), unfinished)


def damages(ledger: Ledger) -> Iterator[Damage]:
    """Yield all evidence that a survey refers to and that is missing or changed: the SHA-256 of each piece is worked out anew."""
    surveys = ledger.surveys()
    newest = {name: digest for survey in surveys for name, digest in survey.subjects.items()}
    users: dict[str, tuple[dict[str, None], dict[str, None]]] = {}
    for survey in surveys:
        for name, digest in survey.subjects.items():
            subjects, names = users.setdefault(digest, ({}, {}))
            subjects[name] = names[survey.name] = None
    for digest, (subjects, names) in users.items():
        path = ledger.place_of(digest)
        why = _fault(path, digest)
        if why is not None:
            yield Damage(path, why, tuple(subjects), tuple(names), any(newest[name] == digest for name in subjects))


def _fault(path: Path, digest: str) -> str | None:
    """Return what is wrong with a piece of evidence, or ``None``."""
    found = hashlib.sha256()
    try:
        with path.open("rb") as packed, zstandard.ZstdDecompressor().stream_reader(packed) as stream:
            while block := stream.read(_BLOCK):
                found.update(block)
    except FileNotFoundError:
        return "it is missing"
    except (OSError, zstandard.ZstdError) as error:
        return f"it cannot be unpacked: {getattr(error, 'strerror', None) or error}"
    return None if found.hexdigest() == digest else "its content has changed"
