"""Reviews in a ledger: what each is about as it began, and every decision, none of which is ever changed.

Knows nothing of what they say but the number of the item that a decision is about.
"""

import hashlib
import json
from collections.abc import Iterable

import zstandard
from msgspec import Struct
from msgspec.structs import asdict
from sqlalchemy import Connection, insert, select, update

from fidelitas.errors import LedgerError, RequestError
from fidelitas.ledger.ledger import Ledger
from fidelitas.ledger.packing import pack, unpack
from fidelitas.ledger.prune import keep_all
from fidelitas.ledger.tables import review_decisions, reviews

__all__ = ["Reviews", "StoredDecision", "StoredReview"]


class StoredDecision(Struct, frozen=True, kw_only=True):
    """A decision about an item, as text."""

    item: int
    decision: str
    reason: str
    reviewer: str
    at: str


class StoredReview(Struct, frozen=True, kw_only=True):
    """A review: its content as it was stored, and when it was closed (ISO 8601), where it was."""

    name: str
    content: bytes
    closed: str | None


class Reviews:
    """The reviews of a ledger."""

    def __init__(self, ledger: Ledger) -> None:
        self._ledger = ledger

    def start(self, name: str, content: bytes, surveys: Iterable[str]) -> None:
        """Store a review, and keep the surveys whose evidence it cites; raises `RequestError` where the name is taken."""
        with self._ledger.database.writing() as connection:
            if connection.execute(select(reviews.c.name).where(reviews.c.name == name)).first() is not None:
                raise RequestError(f'there is a review "{name}" in ledger "{self._ledger}"', hint="Choose another name.")
            row = {"name": name, "digest": hashlib.sha256(content).digest(), "packed": pack(content)}
            connection.execute(insert(reviews).values(row))
            keep_all(connection, surveys, f"review {name}")

    def names(self) -> list[str]:
        """Return the names of all reviews, in the order in which they began."""
        if not self._ledger.names():
            return []
        with self._ledger.database.reading() as connection:
            return list(connection.execute(select(reviews.c.name).order_by(reviews.c.id)).scalars())

    def get(self, name: str) -> StoredReview | None:
        """Return a review by its name; raises `LedgerError` where what was stored is damaged."""
        if not self._ledger.names():
            return None
        with self._ledger.database.reading() as connection:
            row = connection.execute(select(reviews).where(reviews.c.name == name)).first()
        if row is None:
            return None
        content = _unpacked(row.packed, row.digest)
        if content is None:
            raise _damaged(self._ledger, name, "it is not what was stored")
        return StoredReview(name=row.name, content=content, closed=row.closed)

    def decisions(self, name: str) -> list[StoredDecision]:
        """Return all decisions of a review, the oldest first."""
        columns = select(review_decisions).where(review_decisions.c.review == name).order_by(review_decisions.c.id)
        with self._ledger.database.reading() as connection:
            rows = connection.execute(columns).all()
        found = [StoredDecision(item=row.item, decision=row.decision, reason=row.reason, reviewer=row.reviewer, at=row.at) for row in rows]
        seal = b""
        for row, one in zip(rows, found, strict=True):
            seal = _seal(seal, one)
            if seal != bytes(row.seal):
                raise _damaged(self._ledger, name, "a decision is not what was stored")
        return found

    def decide(self, name: str, decisions: Iterable[StoredDecision]) -> None:
        """Add decisions; raises `RequestError` where the review is closed."""
        with self._ledger.database.writing() as connection:
            closed = connection.execute(select(reviews.c.closed).where(reviews.c.name == name)).scalar_one()
            if closed is not None:
                raise RequestError(f'review "{name}" was closed at {closed}', hint="Start a new one.")
            seal = next(iter(reversed(_seals(connection, name))), b"")
            for one in decisions:
                seal = _seal(seal, one)
                connection.execute(insert(review_decisions).values(review=name, seal=seal, **asdict(one)))

    def close(self, name: str, at: str) -> None:
        """Mark a review as closed."""
        with self._ledger.database.writing() as connection:
            connection.execute(update(reviews).where(reviews.c.name == name, reviews.c.closed.is_(None)).values(closed=at))


def _seals(connection: Connection, name: str) -> list[bytes]:
    columns = select(review_decisions.c.seal).where(review_decisions.c.review == name).order_by(review_decisions.c.id)
    return [bytes(seal) for seal in connection.execute(columns).scalars()]


def _seal(before: bytes, one: StoredDecision) -> bytes:
    """Return a digest of a decision and of all before it, so that none can be changed or taken out unseen."""
    text = json.dumps(asdict(one), sort_keys=True)
    return hashlib.sha256(before + text.encode()).digest()


def _damaged(ledger: Ledger, name: str, why: str) -> LedgerError:
    return LedgerError(f'review "{name}" in ledger "{ledger}" is damaged: {why}', hint="Take it from a backup.")


def _unpacked(packed: bytes, digest: bytes) -> bytes | None:
    try:
        content = unpack(packed)
    except (zstandard.ZstdError, MemoryError):
        return None
    return content if hashlib.sha256(content).digest() == bytes(digest) else None
