"""What evidence says of itself, as it stands in rows: known of thousands of subjects without reading their evidence."""

import json
from collections.abc import Iterable
from contextlib import suppress
from datetime import UTC, datetime
from functools import lru_cache

from msgspec import Struct
from sqlalchemy import Connection, select

from fidelitas.evidence import Identity
from fidelitas.ledger.connection import AT_ONCE, batches
from fidelitas.ledger.tables import evidence, pieces

__all__ = ["HEAD", "Head", "heads_of", "identity_of", "tags_of"]

_NO_TEXTS = "[]"

# The columns of a head, of evidence and of its record among the pieces.
HEAD = (
    evidence.c.platform, evidence.c.host_name, evidence.c.machine, evidence.c.host_keys, evidence.c.has_logs, evidence.c.frame,
    evidence.c.stated, evidence.c.taken, pieces.c.digest,
)  # fmt: skip


class Head(Struct, frozen=True):
    """What evidence says of itself: its platform, the subject's own name, the machine's marks; its digest, and whether it has logs.

    The fields are as they stand in a row, in the order of `HEAD`: there are thousands of rows, and few are looked at closely.
    """

    platform: str
    host_name: str
    machine: str | None
    host_keys: str
    has_logs: bool
    frame: bytes  # what evidence of equal files has in common
    stated_or_none: bytes | None
    taken_at: str
    digest: bytes

    @property
    def identity(self) -> Identity:
        """The marks of the machine."""
        return identity_of(self.machine, self.host_keys)

    @property
    def stated(self) -> bytes:
        """What evidence has in common that states the same at another time."""
        return self.stated_or_none or self.digest

    @property
    def taken(self) -> datetime:
        """When it was taken."""
        return _moment(self.taken_at)


# The numbers of a survey follow each other: from so many on they are read as a range, if at least one in four of it is wanted.
_MANY, _WORTH_PASSING_OVER = 10 * AT_ONCE, 4


def heads_of(connection: Connection, numbers: Iterable[int]) -> dict[int, Head]:
    """Return what evidence says of itself, by its number."""
    wanted = sorted(set(numbers))
    every = select(evidence.c.id, *HEAD).join(pieces, pieces.c.id == evidence.c.record)
    if len(wanted) > _MANY and wanted[-1] - wanted[0] < _WORTH_PASSING_OVER * len(wanted):
        known = set(wanted)
        rows = connection.execute(every.where(evidence.c.id.between(wanted[0], wanted[-1])))
        return {number: Head(*row) for some in rows.partitions(AT_ONCE) for number, *row in some if number in known}
    questions = (every.where(evidence.c.id.in_(some)) for some in batches(wanted))
    return {number: Head(*row) for question in questions for number, *row in connection.execute(question).all()}


def _moment(stated: str) -> datetime:
    with suppress(ValueError):
        return datetime.fromisoformat(stated)
    return datetime.fromtimestamp(0, UTC)  # a row that was damaged: its seal says so


@lru_cache(maxsize=20_000)
def identity_of(machine: str | None, host_keys: str) -> Identity:
    """Return the marks of a machine as they stand in a row: its host keys are a list in JSON."""
    return Identity(machine, frozenset(tags_of(host_keys)))


def tags_of(stated: str) -> tuple[str, ...]:
    """Return the texts of a list in JSON; none of what is not one."""
    if stated == _NO_TEXTS:
        return ()
    with suppress(ValueError, RecursionError, TypeError):
        return tuple(text for text in json.loads(stated) if isinstance(text, str))
    return ()
