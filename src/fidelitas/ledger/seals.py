"""The seal of a survey: a digest over its members, so that a row that was changed or lost is noticed.

Contents have digests of their own; which subject has which evidence stands in rows, and rows can be damaged as well.
"""

from collections.abc import Iterable
from typing import NamedTuple

from sqlalchemy import Connection, select

from fidelitas.ledger.connection import AT_ONCE
from fidelitas.ledger.heads import HEAD, Head
from fidelitas.ledger.packing import digest_of
from fidelitas.ledger.tables import evidence, members, pieces, surveys

__all__ = ["Member", "broken_seals", "members_and_seal", "seal_of"]


class Member(NamedTuple):
    """A subject of a survey: its tags in JSON, the number of its evidence, and what that says of itself."""

    subject: str
    tags: str
    evidence: int
    head: Head


def members_and_seal(connection: Connection, survey: int) -> tuple[list[Member], bytes]:
    """Return the members of a survey by its number, and the digest over them as they stand now."""
    joined = members.outerjoin(evidence, evidence.c.id == members.c.evidence).outerjoin(pieces, pieces.c.id == evidence.c.record)
    columns = (members.c.subject, members.c.tags, members.c.evidence, *HEAD)
    rows = connection.execute(select(*columns).select_from(joined).where(members.c.survey == survey))
    found = [Member(subject, tags, number, Head(*head)) for some in rows.partitions(AT_ONCE) for subject, tags, number, *head in some]
    return found, digest_of("\n".join(sorted(map(_stated, found))).encode("utf-8", "surrogatepass"))


def _stated(member: Member) -> str:
    """Return what a seal says of a member."""
    subject, tags, _, head = member
    digest = head.digest.hex() if isinstance(head.digest, bytes) else head.digest  # none where rows are missing
    named = f"{head.platform}\0{head.host_name}\0{head.machine}\0{head.host_keys}\0{head.taken_at}\0{head.has_logs}"
    return f"{subject}\0{tags}\0{digest}\0{named}"


def seal_of(connection: Connection, survey: int) -> bytes:
    """Return the digest over the members of a survey, as they stand now."""
    return members_and_seal(connection, survey)[1]


def broken_seals(connection: Connection, names: Iterable[str]) -> list[str]:
    """Return those of some surveys whose members are not what they were when it was finished."""
    wanted = set(names)
    rows = connection.execute(select(surveys.c.id, surveys.c.name, surveys.c.seal).where(surveys.c.finished)).all()
    return [name for number, name, seal in rows if name in wanted and (seal is None or bytes(seal) != seal_of(connection, number))]
