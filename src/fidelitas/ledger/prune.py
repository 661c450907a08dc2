"""Removing surveys that are not wanted any more, and all that belongs to them alone.

Never removed: surveys that are marked to be kept, and the newest evidence of a subject, so that no subject is lost by growing old.
"""

import struct
from collections.abc import Collection, Iterable, Iterator
from datetime import datetime, timedelta

import zstandard
from msgspec import Struct
from sqlalchemy import Connection, delete, insert, or_, select, update

from fidelitas.errors import LedgerError
from fidelitas.ledger.connection import batches
from fidelitas.ledger.ledger import Ledger
from fidelitas.ledger.packing import Form, split_ids, unpack
from fidelitas.ledger.pieces import PieceReader
from fidelitas.ledger.records import parse_record
from fidelitas.ledger.seals import broken_seals, seal_of
from fidelitas.ledger.stamps import stamp
from fidelitas.ledger.tables import answers, evidence, keeps, members, pieces, surveys

__all__ = ["Pruned", "keep", "keep_all", "prune", "release", "to_prune"]

_INTERRUPTED = timedelta(days=1)  # a survey that was begun later may be under way


class Pruned(Struct, frozen=True):
    """What was removed: surveys; pieces of evidence; and subjects whose newest evidence is in a survey that was otherwise removed."""

    surveys: tuple[str, ...]
    pieces: int
    still: tuple[str, ...]


def keep(ledger: Ledger, survey: str, reason: str) -> None:
    """Mark a survey to be left by pruning, with the reason."""
    with ledger.database.writing() as connection:
        number = connection.execute(select(surveys.c.id).where(surveys.c.name == survey)).scalar_one()
        connection.execute(delete(keeps).where(keeps.c.survey == number))
        connection.execute(insert(keeps).values(survey=number, reason=reason))


def keep_all(connection: Connection, names: Iterable[str], reason: str) -> None:
    """Mark surveys to be left by pruning, but for those that are marked already."""
    wanted = select(surveys.c.id).where(surveys.c.name.in_(list(names)), surveys.c.id.not_in(select(keeps.c.survey)))
    rows = [{"survey": number, "reason": reason} for number in connection.execute(wanted).scalars()]
    if rows:
        connection.execute(insert(keeps), rows)


def release(ledger: Ledger, survey: str) -> bool:
    """Take that mark off a survey, and return whether it had one."""
    with ledger.database.writing() as connection:
        number = connection.execute(select(surveys.c.id).where(surveys.c.name == survey)).scalar_one()
        return bool(connection.execute(delete(keeps).where(keeps.c.survey == number)).rowcount)


def to_prune(ledger: Ledger, now: datetime, days: float | None, count: int | None) -> tuple[str, ...]:
    """Return the surveys that are beyond what is to stay: those of the last `days`, and the last `count`; the marked ones do."""
    names = ledger.names()
    with ledger.database.reading() as connection:
        marked = set(connection.execute(select(surveys.c.name).join(keeps, keeps.c.survey == surveys.c.id)).scalars())
    since = "" if days is None else stamp(now - timedelta(days=days))
    recent = {name for name in names if days is not None and name >= since}
    last = set(names[-count:]) if count else set()
    return tuple(name for name in names if name not in recent | last | marked)


def prune(ledger: Ledger, names: Collection[str], now: datetime, rules: bytes = b"") -> Pruned:
    """Remove surveys, those that were interrupted more than a day ago, and all that no other survey refers to; give the space back.

    Stored answers go that were concluded before the last survey that is removed, or by other rules than these.
    """
    with ledger.database.writing() as connection:
        if broken_seals(connection, ledger.names()):  # a seal that is made anew would hide that
            raise _damaged()
        still = _remove_surveys(connection, names, stamp(now - _INTERRUPTED))
        connection.execute(delete(answers).where(or_(answers.c.at <= max(names, default=""), answers.c.rules != rules)))
        removed = _remove_pieces(connection)
    with ledger.database.alone() as connection:
        if connection.dialect.name == "sqlite":
            connection.exec_driver_sql("vacuum")
            connection.exec_driver_sql("pragma wal_checkpoint(truncate)")
        else:
            connection.exec_driver_sql("vacuum pieces")
            connection.exec_driver_sql("vacuum answers")
    left = set(ledger.names())
    return Pruned(tuple(name for name in names if name not in left), removed, tuple(still))


def _remove_surveys(connection: Connection, names: Collection[str], interrupted: str) -> list[str]:
    """Remove surveys but for the newest evidence of each subject, and return the subjects that this leaves."""
    rows = select(members.c.survey, members.c.subject, surveys.c.name).join(surveys, surveys.c.id == members.c.survey)
    finished = connection.execute(rows.where(surveys.c.finished).order_by(surveys.c.name))
    newest = {subject: survey for survey, subject, _ in finished}
    every = connection.execute(select(surveys.c.id, surveys.c.name, surveys.c.finished))
    gone = [row.id for row in every if row.name in names or (not row.finished and row.name < interrupted)]
    still = []
    for number in gone:
        stay = {subject for subject, survey in newest.items() if survey == number}
        for subject in connection.execute(select(members.c.subject).where(members.c.survey == number)).scalars().all():
            if subject not in stay:
                connection.execute(delete(members).where(members.c.survey == number, members.c.subject == subject))
        still += sorted(stay)
        connection.execute(update(surveys).where(surveys.c.id == number).values(seal=seal_of(connection, number)))
        if not stay:
            connection.execute(delete(keeps).where(keeps.c.survey == number))
            connection.execute(delete(surveys).where(surveys.c.id == number))
    return still


def _remove_pieces(connection: Connection) -> int:
    """Remove evidence that is in no survey, and pieces that are in no evidence."""
    connection.execute(delete(evidence).where(evidence.c.id.not_in(select(members.c.evidence))))
    needed = _needed(connection)
    every = connection.execute(select(pieces.c.id).order_by(pieces.c.id.desc())).scalars().all()
    gone = [number for number in every if number not in needed]
    for some in batches(gone):  # the latest first: what is stated against another goes before it
        connection.execute(delete(pieces).where(pieces.c.id.in_(some)))
    return len(gone)


def _needed(connection: Connection) -> set[int]:
    """Return the numbers of the pieces that evidence is made of."""
    digests: set[bytes] = set()
    records = connection.execute(select(pieces.c.id).join(evidence, evidence.c.record == pieces.c.id)).scalars().all()
    for number in records:
        content = PieceReader(connection).by_number(number)
        if content is None:
            raise _damaged()
        digests.update(parse_record(content).digests.values())
    needed = {number for digest, number in _all(connection) if digest in digests} | set(records)
    for number, packed in connection.execute(select(pieces.c.id, pieces.c.packed).where(pieces.c.form == Form.PARTS)).all():
        if number in needed:
            try:
                needed.update(split_ids(unpack(packed)))
            except (zstandard.ZstdError, struct.error) as error:
                raise _damaged() from error
    bases = connection.execute(select(pieces.c.id, pieces.c.base).where(pieces.c.base.is_not(None))).all()
    needed.update(base for number, base in bases if number in needed)
    return needed


def _damaged() -> LedgerError:
    return LedgerError("the ledger is damaged: nothing was removed", hint='"fidelitas ledger verify" says what.')


def _all(connection: Connection) -> Iterator[tuple[bytes, int]]:
    for digest, number in connection.execute(select(pieces.c.digest, pieces.c.id)):
        yield bytes(digest), number
