"""A survey in the making: evidence is stored as it comes, and nothing of it is held.

Each subject is one transaction: whatever happens, the ledger holds it whole or not at all.  What has arrived stays with a survey that is
marked as unfinished, so that an interrupted one can be completed.
"""

import json
import os
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from datetime import UTC, datetime

from msgspec.structs import replace
from sqlalchemy import Connection, delete, insert, select, update
from sqlalchemy.exc import IntegrityError

from fidelitas.errors import EvidenceError, LedgerError
from fidelitas.evidence import Bundle, Identity, Sameness, sameness
from fidelitas.ledger.connection import insert_new
from fidelitas.ledger.heads import Head, heads_of, tags_of
from fidelitas.ledger.ledger import Ledger, Stored, StoredEvidence, Survey
from fidelitas.ledger.packing import digest_of
from fidelitas.ledger.pieces import PieceReader, add_pieces, packed_pieces
from fidelitas.ledger.records import Kept, Name, kept_of, parse_record
from fidelitas.ledger.seals import seal_of
from fidelitas.ledger.stamps import stamp
from fidelitas.ledger.tables import evidence, members, pieces, surveys
from fidelitas.text import clipped, escape_control

__all__ = ["Draft"]

_PLATFORM = 40  # the width of its column


class Draft:
    """A survey to which evidence is added."""

    def __init__(self, ledger: Ledger, survey: int | None = None) -> None:
        self._ledger, self._database = ledger, ledger.database
        self._known: Mapping[str, Identity] = ledger.marks()
        self._survey = survey
        self._stored: dict[str, Stored] = {} if survey is None else self._taken_up(survey)

    def add(self, bundle: Bundle, tags: Sequence[str] = ()) -> None:
        """Store the evidence of a subject, and its tags; the last of a name counts."""
        kept, contents = kept_of(bundle)
        record = digest_of(kept.record)
        with self._database.reading() as connection:
            number = _number(connection, record)
            before = _before(connection, bundle.subject, kept.frame) if number is None else None
            ready = packed_pieces(connection, {**contents, record: kept.record}, _bases(connection, before, kept, record))
        with self._database.writing() as connection:
            if self._survey is None:
                self._survey = _begin(connection)
            add_pieces(connection, ready)
            number = number or _add_evidence(connection, bundle, kept, record)
            row = {"survey": self._survey, "subject": bundle.subject, "evidence": number, "tags": json.dumps(tags)}
            if bundle.subject in self._stored:
                connection.execute(delete(members).where(members.c.survey == self._survey, members.c.subject == bundle.subject))
            connection.execute(insert(members).values(row))
        head = Head(
            platform=bundle.platform,
            host_name=bundle.host_name,
            machine=bundle.identity.machine,
            host_keys=json.dumps(sorted(bundle.identity.host_keys)),
            has_logs=bool(bundle.copies),
            frame=kept.frame,
            stated_or_none=kept.stated,
            taken_at=bundle.taken.astimezone(UTC).isoformat(),
            digest=record,
        )
        self._stored[bundle.subject] = Stored(number, head, tuple(tags))

    @property
    def stored(self) -> StoredEvidence:
        """What was stored so far."""
        return StoredEvidence(self._ledger, dict(sorted(self._stored.items())))

    def finish(self, now: datetime) -> Survey:
        """Mark the survey as finished, and return it with what is odd about it."""
        return self.finish_as(stamp(now))

    def finish_as(self, stem: str) -> Survey:
        """Mark the survey as finished under a name; where that is taken, under one with a number after it."""
        name, count = stem, 1
        while not self._rename(name):
            count += 1
            name = f"{stem}-{count}"
        identities = {subject: one.head.identity for subject, one in self._stored.items()}
        survey = Survey(name=name, subjects={subject: one.number for subject, one in self._stored.items()}, identities=identities)
        return replace(survey, notes=tuple(_strangers(identities, self._known)))

    def _rename(self, name: str) -> bool:
        try:
            with self._database.writing() as connection:
                if self._survey is None:
                    self._survey = _begin(connection)
                seal = seal_of(connection, self._survey)
                connection.execute(update(surveys).where(surveys.c.id == self._survey).values(name=name, finished=True, seal=seal))
        except LedgerError as error:
            if isinstance(error.__cause__, IntegrityError):  # two surveys in one second
                return False
            raise
        return True

    def _taken_up(self, survey: int) -> dict[str, Stored]:
        with self._database.reading() as connection:
            rows = connection.execute(select(members).where(members.c.survey == survey)).all()
            heads = heads_of(connection, {row.evidence for row in rows})
        return {row.subject: Stored(row.evidence, heads[row.evidence], tags_of(row.tags)) for row in rows}


def _begin(connection: Connection) -> int:
    name = f"{datetime.now(UTC).strftime('%Y-%m-%dT%H%M%S.%fZ')}-{os.getpid()}"
    made = connection.execute(insert(surveys).values(name=name, finished=False).returning(surveys.c.id))
    return int(made.scalar_one())


def _number(connection: Connection, record: bytes) -> int | None:
    """Return the number of evidence that is there already."""
    rows = select(evidence.c.id).join(pieces, pieces.c.id == evidence.c.record).where(pieces.c.digest == record)
    return connection.execute(rows).scalar()


def _add_evidence(connection: Connection, bundle: Bundle, kept: Kept, record: bytes) -> int:
    number = connection.execute(select(pieces.c.id).where(pieces.c.digest == record)).scalar_one()
    row = {
        "record": number,
        "frame": kept.frame,
        "stated": kept.stated,
        "platform": clipped(escape_control(bundle.platform), _PLATFORM),
        "host_name": bundle.host_name,
        "machine": bundle.identity.machine,
        "host_keys": json.dumps(sorted(bundle.identity.host_keys)),
        "taken": bundle.taken.astimezone(UTC).isoformat(),
        "has_logs": bool(bundle.copies),
    }
    insert_new(connection, evidence, [row])
    return int(connection.execute(select(evidence.c.id).where(evidence.c.record == number)).scalar_one())


def _before(connection: Connection, subject: str, frame: bytes) -> bytes | None:
    """Return the digest of the record that evidence is likely to differ little from: the subject's last, else one with equal files."""
    record = select(pieces.c.digest).join(evidence, evidence.c.record == pieces.c.id)
    last = record.join(members, members.c.evidence == evidence.c.id).where(members.c.subject == subject)
    found = connection.execute(last.order_by(members.c.survey.desc()).limit(1)).scalar()
    if found is None:
        found = connection.execute(record.where(evidence.c.frame == frame).order_by(evidence.c.id).limit(1)).scalar()
    return None if found is None else bytes(found)


def _bases(connection: Connection, before: bytes | None, kept: Kept, record: bytes) -> dict[bytes, bytes]:
    """Return, for each content, what stood in its place before; nothing where that cannot be read."""
    known = PieceReader(connection).by_digest([before]).get(before) if before is not None else None
    if before is None or known is None:
        return {}
    earlier: Mapping[Name, bytes] = {}
    with suppress(EvidenceError):  # of a version that took for evidence what this one does not
        earlier = parse_record(known)[2]
    return {record: before, **{digest: earlier[name] for name, digest in kept.digests.items() if name in earlier}}


def _strangers(identities: Mapping[str, Identity], known: Mapping[str, Identity]) -> Iterator[str]:
    """Yield what is to be said of subjects that look like another machine than the one that had their name."""
    for name, mark in identities.items():
        verdict = sameness(mark, known.get(name, mark))
        if verdict is Sameness.OTHER:
            yield f'"{name}" is another machine than before: machine-id and host keys differ; what was read of the other is not added to it'
        elif verdict is Sameness.DOUBTFUL:
            yield f'"{name}" may be another machine than before: either its machine-id or its host keys differ, as with clones or new keys'
