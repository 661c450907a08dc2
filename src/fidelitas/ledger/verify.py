"""A ledger held against itself: is the evidence of every survey there, and is it what it was when it came?"""

from collections.abc import Iterator

from msgspec import Struct
from sqlalchemy import Connection, delete, exc, func, select

from fidelitas.errors import EvidenceError, LedgerError
from fidelitas.ledger.ledger import Ledger
from fidelitas.ledger.packing import Form
from fidelitas.ledger.pieces import PieceReader
from fidelitas.ledger.records import parse_record
from fidelitas.ledger.reviews import Reviews
from fidelitas.ledger.seals import broken_seals
from fidelitas.ledger.tables import answers, evidence, keeps, pieces, surveys

__all__ = ["Damage", "Extent", "damages", "drop_damaged", "extent"]

_AT_ONCE = 100


class Damage(Struct, frozen=True):
    """Evidence that is not what it was: of which subjects of which surveys, which item of it, and why."""

    what: str
    why: str
    subjects: tuple[str, ...]
    surveys: tuple[str, ...]
    is_newest: bool  # whether the newest evidence of a subject is damaged


class Extent(Struct, frozen=True):
    """How much a ledger holds: surveys with their subjects; pieces of evidence, their bytes as packed and as they came.

    `changes` are the packed bytes of pieces that are stated as what changed since earlier ones; `answers` those of stored answers.
    """

    surveys: tuple[tuple[str, tuple[str, ...]], ...]
    kept: frozenset[str]
    subjects: int
    pieces: int
    size: int
    unpacked: int
    changes: int
    answers: int
    unfinished: int


def extent(ledger: Ledger) -> Extent:
    """Return how much a ledger holds; raises `LedgerError` where it cannot be read."""
    found = ledger.surveys()
    length = func.coalesce(func.sum(func.length(pieces.c.packed)), 0)
    with ledger.database.reading() as connection:
        count, size = connection.execute(select(func.count(), length)).one()
        unpacked = connection.execute(select(func.coalesce(func.sum(pieces.c.size), 0)).where(pieces.c.form != Form.PARTS)).scalar_one()
        changes = connection.execute(select(length).where(pieces.c.form == Form.AGAINST)).scalar_one()
        stored = connection.execute(select(func.coalesce(func.sum(func.length(answers.c.packed)), 0))).scalar_one()
        unfinished = connection.execute(select(func.count()).select_from(surveys).where(~surveys.c.finished)).scalar_one()
        kept = connection.execute(select(surveys.c.name).join(keeps, keeps.c.survey == surveys.c.id)).scalars().all()
    return Extent(
        surveys=tuple((one.name, tuple(sorted(one.subjects))) for one in found),
        kept=frozenset(kept),
        subjects=len({name for one in found for name in one.subjects}),
        pieces=count,
        size=size,
        unpacked=int(unpacked),
        changes=changes,
        answers=stored,
        unfinished=unfinished,
    )


def damages(ledger: Ledger) -> Iterator[Damage]:
    """Yield what surveys refer to and is missing or changed: the SHA-256 of every piece is worked out anew."""
    found = ledger.surveys()
    newest = {name: number for survey in found for name, number in survey.subjects.items()}
    users: dict[int, tuple[dict[str, None], dict[str, None]]] = {}
    for survey in found:
        for name, number in survey.subjects.items():
            subjects, names = users.setdefault(number, ({}, {}))
            subjects[name] = names[survey.name] = None
    with ledger.database.reading() as connection:
        for name in broken_seals(connection, [survey.name for survey in found]):
            yield Damage("the list of its subjects", "has changed", (), (name,), is_newest=name == found[-1].name)
    for name in Reviews(ledger).names():
        try:
            Reviews(ledger).get(name)
            Reviews(ledger).decisions(name)
        except LedgerError:
            yield Damage(f"review {name}", "has changed", (), (), is_newest=True)
    whole, faults = _pieces(ledger)
    for number, (subjects, names) in users.items():
        for what, why in _faults_of(ledger, number, whole, faults):
            yield Damage(what, why, tuple(subjects), tuple(names), any(newest[name] == number for name in subjects))


def drop_damaged(ledger: Ledger) -> int:
    """Remove the items that are damaged, so that the next survey of them stores them anew, and return how many they were.

    Records of evidence stay.  Stored answers are removed: they are made again.
    """
    faults = _pieces(ledger)[1]
    removed = 0
    with ledger.database.writing() as connection:
        connection.execute(delete(answers))
        records = set(connection.execute(select(evidence.c.record)).scalars())
        numbers = {number for digest, number in connection.execute(select(pieces.c.digest, pieces.c.id)) if bytes(digest) in faults}
        for number in sorted(numbers - records, reverse=True):  # what is stated against another goes before it
            removed += connection.execute(delete(pieces).where(pieces.c.id == number)).rowcount
    return removed


def _pieces(ledger: Ledger) -> tuple[set[bytes], dict[bytes, str]]:
    """Return the digests of all pieces that are what they were, and what is wrong with the others."""
    whole: set[bytes] = set()
    faults: dict[bytes, str] = {}
    with ledger.database.reading() as connection:
        last = connection.execute(select(func.max(pieces.c.id))).scalar() or 0
    for begins in range(1, last + 1, _AT_ONCE):
        with ledger.database.reading() as connection:
            reader = PieceReader(connection)
            for digest in _digests(connection, begins):
                if reader.by_digest([digest]):
                    whole.add(digest)
            faults |= reader.faults
    return whole, faults


def _digests(connection: Connection, begins: int) -> list[bytes]:
    found: list[bytes] = []
    for number in range(begins, begins + _AT_ONCE):
        try:
            digest = connection.execute(select(pieces.c.digest).where(pieces.c.id == number)).scalar()
        except exc.DatabaseError:  # what refers to it will miss it
            continue
        if digest is not None:
            found.append(bytes(digest))
    return found


def _faults_of(ledger: Ledger, number: int, whole: set[bytes], faults: dict[bytes, str]) -> Iterator[tuple[str, str]]:
    """Yield which items of a piece of evidence are not what they were, and why."""
    try:
        with ledger.database.reading() as connection:
            reader = PieceReader(connection)
            content = reader.record(number)
        if content is None:
            yield "the record", next(iter(reader.faults.values()), "is missing")
            return
        digests = parse_record(content).digests
    except (LedgerError, EvidenceError) as error:
        yield "the record", f"could not be read: {error}"
        return
    for (kind, name), digest in digests.items():
        if digest not in whole:
            yield (f"listing {name}" if kind == "listing" else name), faults.get(digest, "is missing")
