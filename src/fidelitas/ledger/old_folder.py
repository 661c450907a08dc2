"""A ledger in the form that it had first, a folder; read once, when it is imported.

::

    LEDGER/ledger.json                     the format and its version
    LEDGER/surveys/2026-11-23T071742Z.json which subject has which evidence
    LEDGER/evidence/ab/abcdef….tar.zst     bundles, by the SHA-256 of the archive as it came
"""

import json
import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from fidelitas.errors import EvidenceError, LedgerError
from fidelitas.evidence import Bundle, is_valid_subject_name, read_bundle, unread_bundle

__all__ = ["old_surveys"]

_FORMAT, _VERSION = "fidelitas-ledger", 1
_NAME = re.compile(r"\d{4}-\d\d-\d\dT\d{6}Z(?:-\d+)?\Z")
_DIGEST = re.compile(r"[0-9a-f]{64}\Z")


def old_surveys(folder: Path) -> Iterator[tuple[str, Iterator[Bundle]]]:
    """Yield the name of each survey and its evidence, the oldest first; raises `LedgerError` for what is not such a folder.

    Evidence that cannot be read is a gap.
    """
    head = folder / "ledger.json"
    stated = _json(head)
    if stated.get("format") != _FORMAT or stated.get("version") != _VERSION:
        raise LedgerError(f'"{head}" is not of a ledger of version {_VERSION}', hint="Name another folder with --ledger.")
    for path in sorted((folder / "surveys").glob("*.json")):
        if _NAME.match(path.stem):
            yield path.stem, _evidence(folder, _subjects(path))


def _evidence(folder: Path, subjects: Mapping[str, str]) -> Iterator[Bundle]:
    for subject, digest in subjects.items():
        path = folder / "evidence" / digest[:2] / f"{digest}.tar.zst"
        try:
            with path.open("rb") as stream:
                yield read_bundle(stream).named(subject)
        except (OSError, EvidenceError) as error:  # it costs this subject alone
            why = getattr(error, "strerror", None) or error
            yield unread_bundle(subject, f'the evidence in the ledger, "{path}", could not be read: {why}; survey the subject again')


def _subjects(path: Path) -> Mapping[str, str]:
    subjects = _json(path).get("subjects")
    good = isinstance(subjects, dict) and all(
        is_valid_subject_name(subject) and isinstance(digest, str) and _DIGEST.match(digest) for subject, digest in subjects.items()
    )
    if not good:
        raise LedgerError(f'"{path}" does not list subjects and digests', hint="The ledger was changed by something else.")
    return subjects or {}


def _json(path: Path) -> dict[str, Any]:
    try:
        stated = json.loads(path.read_bytes())
    except OSError as error:
        raise LedgerError(f'could not read "{path}": {error.strerror or error}') from error
    except (ValueError, RecursionError) as error:
        raise LedgerError(f'"{path}" is not JSON: {error}', hint="The ledger was changed by something else.") from error
    if not isinstance(stated, dict):
        raise LedgerError(f'"{path}" does not hold a JSON object', hint="The ledger was changed by something else.")
    return stated
