"""Stored answers: what was concluded from the evidence of a ledger, by key, each with the digest of its bytes.

Knows nothing of what they say.  An answer that was damaged is one that is not there; a ledger that cannot be written to keeps none.
"""

import hashlib
from collections.abc import Iterable, Mapping
from contextlib import suppress
from datetime import UTC, datetime

import zstandard
from sqlalchemy import delete, select

from fidelitas.errors import LedgerError
from fidelitas.ledger.connection import Database, batches, insert_new
from fidelitas.ledger.heads import Head
from fidelitas.ledger.packing import pack, unpack
from fidelitas.ledger.stamps import stamp
from fidelitas.ledger.tables import answers

__all__ = ["StoredAnswers"]


class StoredAnswers:
    """The answers of a ledger, and what is known of each subject's evidence in what is asked, without reading it."""

    def __init__(self, database: Database, marks: Mapping[str, Head]) -> None:
        self._database, self._marks = database, marks

    def marks(self) -> Mapping[str, Head]:
        """Return what is known of the evidence of each subject that is whole, by the subject's name."""
        return self._marks

    def get(self, keys: Iterable[bytes]) -> Mapping[bytes, bytes]:
        """Return what is kept under some keys."""
        found: dict[bytes, bytes] = {}
        with suppress(LedgerError), self._database.reading() as connection:
            for some in batches(keys):
                rows = connection.execute(select(answers.c.key, answers.c.digest, answers.c.packed).where(answers.c.key.in_(some)))
                contents = ((bytes(key), _unpacked(packed, digest)) for key, digest, packed in rows)
                found.update((key, content) for key, content in contents if content is not None)
        return found

    def put(self, kept: Mapping[bytes, bytes], rules: bytes) -> bool:
        """Keep something, and say by which rules it was concluded; return whether it is kept."""
        now = stamp(datetime.now(UTC))
        rows = [
            {"key": key, "rules": rules, "at": now, "digest": hashlib.sha256(content).digest(), "packed": pack(content)}
            for key, content in kept.items()
        ]
        try:
            with self._database.writing() as connection:
                for some in batches(kept):  # one that was damaged, or that another command has kept meanwhile
                    connection.execute(delete(answers).where(answers.c.key.in_(some)))
                insert_new(connection, answers, rows)
        except LedgerError:  # an answer that cannot be kept is still an answer
            return False
        return True


def _unpacked(packed: bytes, digest: bytes) -> bytes | None:
    try:
        content = unpack(packed)
    except (zstandard.ZstdError, MemoryError):
        return None
    return content if hashlib.sha256(content).digest() == bytes(digest) else None
