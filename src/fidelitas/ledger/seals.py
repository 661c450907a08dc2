"""The seal of a survey: a digest over its members, so that a row that was changed or lost is noticed.

Contents have digests of their own; which subject has which evidence stands in rows, and rows can be damaged as well.
"""

from collections.abc import Iterable

from sqlalchemy import Connection, select

from fidelitas.ledger.packing import digest_of
from fidelitas.ledger.tables import evidence, members, pieces, surveys

__all__ = ["broken_seals", "seal_of"]

_HEAD = (evidence.c.platform, evidence.c.host_name, evidence.c.machine, evidence.c.host_keys, evidence.c.taken, evidence.c.has_logs)
_SEALED = (members.c.subject, members.c.tags, pieces.c.digest, *_HEAD)


def seal_of(connection: Connection, survey: int) -> bytes:
    """Return the digest over the members of a survey, as they stand now."""
    joined = members.outerjoin(evidence, evidence.c.id == members.c.evidence).outerjoin(pieces, pieces.c.id == evidence.c.record)
    rows = connection.execute(select(*_SEALED).select_from(joined).where(members.c.survey == survey))
    stated = sorted("\0".join(value.hex() if isinstance(value, bytes) else str(value) for value in row) for row in rows)
    return digest_of("\n".join(stated).encode("utf-8", "surrogatepass"))


def broken_seals(connection: Connection, names: Iterable[str]) -> list[str]:
    """Return those of some surveys whose members are not what they were when it was finished."""
    wanted = set(names)
    rows = connection.execute(select(surveys.c.id, surveys.c.name, surveys.c.seal).where(surveys.c.finished)).all()
    return [name for number, name, seal in rows if name in wanted and (seal is None or bytes(seal) != seal_of(connection, number))]
