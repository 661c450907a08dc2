"""What evidence says of itself, as it stands in rows: known of thousands of subjects without reading their evidence."""

import json
from collections.abc import Iterable
from contextlib import suppress
from datetime import UTC, datetime
from typing import Any

from msgspec import Struct
from sqlalchemy import Connection, Row, select

from fidelitas.evidence import Identity
from fidelitas.ledger.connection import AT_ONCE, batches
from fidelitas.ledger.tables import evidence, pieces

__all__ = ["Head", "heads_of", "tags_of"]

_HEAD = (
    evidence.c.id, evidence.c.platform, evidence.c.host_name, evidence.c.machine, evidence.c.host_keys, evidence.c.has_logs,
    evidence.c.frame, evidence.c.stated, evidence.c.taken, pieces.c.digest,
)  # fmt: skip


class Head(Struct, frozen=True, kw_only=True):
    """What evidence says of itself: its platform, the subject's own name, the machine's marks; its digest, and whether it has logs."""

    platform: str
    host_name: str
    identity: Identity
    digest: bytes
    frame: bytes  # what evidence of equal files has in common
    stated: bytes  # what evidence has in common that states the same at another time
    taken: datetime
    has_logs: bool


# Of more than so many heads all are read.
_WORTH_READING_ALL = 10 * AT_ONCE


def heads_of(connection: Connection, numbers: Iterable[int]) -> dict[int, Head]:
    """Return what evidence says of itself, by its number."""
    wanted = set(numbers)
    every = select(*_HEAD).join(pieces, pieces.c.id == evidence.c.record)
    questions = [every] if len(wanted) > _WORTH_READING_ALL else [every.where(evidence.c.id.in_(some)) for some in batches(wanted)]
    return {row.id: _head(row) for question in questions for row in connection.execute(question) if row.id in wanted}


def _head(row: Row[*tuple[Any, ...]]) -> Head:
    identity = Identity(row.machine, _keys(row.host_keys))
    return Head(
        platform=row.platform,
        host_name=row.host_name,
        identity=identity,
        digest=bytes(row.digest),
        frame=bytes(row.frame),
        stated=bytes(row.stated or row.digest),
        taken=_moment(row.taken),
        has_logs=row.has_logs,
    )


def _moment(stated: str) -> datetime:
    with suppress(ValueError):
        return datetime.fromisoformat(stated)
    return datetime.fromtimestamp(0, UTC)  # a row that was damaged: its seal says so


def _keys(stated: str) -> frozenset[str]:
    return frozenset(tags_of(stated))


def tags_of(stated: str) -> tuple[str, ...]:
    """Return the texts of a list in JSON; none of what is not one."""
    with suppress(ValueError, RecursionError, TypeError):
        return tuple(text for text in json.loads(stated) if isinstance(text, str))
    return ()
