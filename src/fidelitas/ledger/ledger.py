"""Surveys and their evidence, as the rest of the program knows them.

Evidence tells who is root where.  Nothing that was stored is ever changed; only pruning removes.
"""

import re
from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence
from collections.abc import Set as AbstractSet
from contextlib import suppress
from datetime import date, datetime
from hashlib import blake2b
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct, field
from sqlalchemy import Connection, select

from fidelitas.errors import EvidenceError, LedgerError, RequestError
from fidelitas.evidence import Bundle, Identity, MissingItem, Sameness, sameness, unread_bundle
from fidelitas.ledger.answers import StoredAnswers
from fidelitas.ledger.connection import AT_ONCE, Database, place_of
from fidelitas.ledger.heads import Head, heads_of, identity_of, tags_of
from fidelitas.ledger.pieces import PieceReader
from fidelitas.ledger.queries import COPIES, ReadSurvey, finished, members_of_surveys, newest_members, read_survey
from fidelitas.ledger.records import bundle_of, parse_record
from fidelitas.ledger.tables import evidence, members, surveys

if TYPE_CHECKING:
    from fidelitas.ledger.draft import Draft

__all__ = ["History", "Ledger", "Stored", "StoredEvidence", "Survey", "read_evidence"]

_VERIFY = '"fidelitas ledger verify" says what else is damaged'
_DAY = re.compile(r"\d{4}-\d\d-\d\d\Z")
_LAST = re.compile(r"last\Z|-(\d{1,6})\Z")


class Survey(Struct, frozen=True, kw_only=True):
    """One dated pass: its name, and the number of each subject's evidence."""

    name: str
    subjects: Mapping[str, int]
    identities: Mapping[str, Identity] = field(default_factory=dict)
    notes: tuple[str, ...] = ()  # what is odd about it beside the surveys before


class Stored(Struct, frozen=True):
    """Where the evidence of a subject is kept, what it says of itself, and the tags that the subject had in the estate's file."""

    number: int
    head: Head
    tags: tuple[str, ...] = ()


class History(Sequence[Bundle]):
    """The evidence of one subject over time, the oldest first, each read when it is asked for; the newest is held."""

    def __init__(self, ledger: "Ledger", subject: str, numbers: Sequence[int]) -> None:
        self._ledger, self._subject, self._numbers = ledger, subject, numbers
        self._newest: Bundle | None = None

    def __len__(self) -> int:
        """Return how many there are."""
        return len(self._numbers)

    def __getitem__(self, place: int) -> Bundle:  # type: ignore[override]
        """Return one by its place; raises `IndexError`."""
        number = self._numbers[place]
        if number != self._numbers[-1]:
            return self._ledger.load(self._subject, number)
        if self._newest is None:
            self._newest = self._ledger.load(self._subject, number)
        return self._newest


class StoredEvidence:
    """Evidence in a ledger, read when it is asked for."""

    def __init__(self, ledger: "Ledger", stored: Mapping[str, Stored]) -> None:
        self.ledger, self._stored = ledger, stored
        self._whole = {name: one.head for name, one in stored.items()}  # as far as it was read

    @property
    def names(self) -> Sequence[str]:
        """The names of the subjects."""
        return list(self._stored)

    def subjects(self) -> Mapping[str, tuple[str, str]]:
        """Return each subject's platform and what it calls itself, by name."""
        return {name: (one.head.platform, one.head.host_name) for name, one in self._stored.items()}

    def evidence(self, subject: str) -> Bundle:
        """Return the evidence of a subject; nothing that is concluded from damaged evidence is kept."""
        bundle, whole = self.ledger.load_checked(subject, self._stored[subject].number)
        if not whole:
            self._whole.pop(subject, None)
        return bundle

    def numbers(self) -> Mapping[str, int]:
        """Return the number under which the ledger has the evidence of each subject, by the subject's name."""
        return {name: one.number for name, one in self._stored.items()}

    def heads(self) -> Mapping[str, Head]:
        """Return what the evidence of each subject says of itself, by the subject's name."""
        return {name: one.head for name, one in self._stored.items()}

    def tags(self) -> Mapping[str, tuple[str, ...]]:
        """Return the tags of each subject, by its name."""
        return {name: one.tags for name, one in self._stored.items()}

    def stored_answers(self) -> StoredAnswers:
        """Return what was concluded from this evidence before."""
        return StoredAnswers(self.ledger.database, self._whole)


class Ledger:
    """Surveys and their evidence."""

    def __init__(self, place: str | Path, notice: Callable[[str], None] = lambda _: None) -> None:
        """Open the ledger at a place when it is asked for; `notice` is called with what was found to be damaged."""
        self.place = place_of(place)
        self._notice = notice
        self.is_whole = True  # as far as it was read
        self.database = Database(self.place)

    def __str__(self) -> str:
        return str(self.place)

    # -- writing -----------------------------------------------------------------------------------------------------------------

    def add(self, bundles: Iterable[Bundle], now: datetime, tags: Mapping[str, Sequence[str]] | None = None) -> Survey:
        """Store one survey, with the tags of subjects by their names; raises `LedgerError` where that fails."""
        draft = self.draft()
        for bundle in bundles:
            draft.add(bundle, (tags or {}).get(bundle.subject, ()))
        return draft.finish(now)

    def draft(self) -> "Draft":
        """Return a survey to which evidence is added piece by piece; raises `LedgerError` where nothing can be written."""
        # Writing brings libraries that reading does without.
        from fidelitas.ledger.draft import Draft  # noqa: PLC0415

        self._take_over()
        with self.database.writing():
            pass
        return Draft(self)

    def unfinished(self) -> "Draft | None":
        """Return the last survey that was interrupted, with what had arrived by then; none where a later one was finished."""
        from fidelitas.ledger.draft import Draft  # noqa: PLC0415

        if not self._is_there():
            return None
        with self.database.reading() as connection:
            last = connection.execute(select(surveys.c.id, surveys.c.finished).order_by(surveys.c.id.desc()).limit(1)).first()
        return None if last is None or last.finished else Draft(self, last.id)

    def nothing_finished(self) -> RequestError:
        """Return what to say where no survey was finished: how much of an interrupted one had arrived, and how to complete it."""
        begun = self.unfinished()
        if begun is None or not begun.stored.names:
            return RequestError(f'ledger "{self}" holds no survey', hint='Run "fidelitas survey" first.')
        count = len(begun.stored.names)
        arrived = f"{count} subject{'' if count == 1 else 's'} had arrived"
        hint = "Complete it: the command that began it, with --resume."
        return RequestError(f'ledger "{self}" holds no finished survey: one was interrupted when {arrived}', hint=hint)

    # -- reading -----------------------------------------------------------------------------------------------------------------

    def surveys(self) -> tuple[Survey, ...]:
        """Return all surveys that were finished, the oldest first; none where there is no ledger yet."""
        if not self._is_there():
            return ()
        with self.database.reading() as connection:
            found: dict[str, dict[str, int]] = {name: {} for name in connection.execute(finished()).scalars()}
            for row in connection.execute(members_of_surveys().order_by(members.c.subject)):
                found[row.name][row.subject] = row.evidence
        return tuple(Survey(name=name, subjects=subjects) for name, subjects in found.items())

    def names(self) -> tuple[str, ...]:
        """Return the names of all surveys that were finished, the oldest first."""
        if not self._is_there():
            return ()
        with self.database.reading() as connection:
            return tuple(connection.execute(finished()).scalars())

    def named(self, survey: str) -> str:
        """Return the name of the survey that is meant: its name, ``last``, ``-2`` for the second last, or the last up to a date.

        Raises `RequestError` where there is no such survey.
        """
        names = self.names()
        found = _meant(survey, names)
        if found is None:
            known = ", ".join(names[-3:]) or "none"
            raise RequestError(
                f'there is no survey "{survey}" in ledger "{self.place}"', hint=f'The latest are: {known}; "last", "-2" or a date will do.'
            )
        return found

    def newest(self, survey: str | None = None) -> StoredEvidence:
        """Return the newest evidence of every subject, or that of one survey; read when it is asked for."""
        if not self._is_there():
            if survey is not None:
                self.named(survey)
            return StoredEvidence(self, {})
        if survey is None:
            return self._read(newest_members)
        name = self.named(survey)
        return self._read(lambda connection: [read_survey(connection, name)])

    def _read(self, choose: Callable[[Connection], Iterable[ReadSurvey]]) -> StoredEvidence:
        """Return the evidence of some members of surveys; refuse a survey whose list of subjects is damaged."""
        stored: dict[str, Stored] = {}
        with self.database.reading() as connection:
            for survey in choose(connection):
                if not survey.is_whole:
                    raise LedgerError(
                        f'ledger "{self.place}" is damaged: which subjects survey {survey.name} has is not what it was',
                        hint=f"{_VERIFY}; name another survey with --survey, or survey again.",
                    )
                stored |= {one.subject: Stored(one.evidence, one.head, tags_of(one.tags)) for one in survey.members}
        return StoredEvidence(self, dict(sorted(stored.items())))

    @property
    def has_logs(self) -> bool:
        """Whether any evidence in it has logs."""
        with self.database.reading() as connection:
            return connection.execute(select(evidence.c.id).where(evidence.c.has_logs).limit(1)).first() is not None

    def subjects_of(self, survey: str) -> frozenset[str]:
        """Return the subjects of one survey."""
        with self.database.reading() as connection:
            found = connection.execute(members_of_surveys().where(surveys.c.name == self.named(survey)))
            return frozenset(row.subject for row in found)

    def as_of(self, survey: str) -> StoredEvidence:
        """Return the newest evidence that every subject had when a survey was finished, in that one or an earlier one."""
        until = self.named(survey)
        return self._read(lambda connection: newest_members(connection, until))

    def bundles(self, survey: str | None = None) -> tuple[Bundle, ...]:
        """Return the newest evidence of every subject, or that of one survey, all at once."""
        stored = self.newest(survey)
        return tuple(stored.evidence(name) for name in stored.names)

    def history(
        self, survey: str | None = None, subjects: Container[str] | None = None, *, with_logs: bool = False
    ) -> Iterator[tuple[str, "History"]]:
        """Yield each subject, or some, with all evidence of it, the oldest first; with `survey` up to that one.

        `with_logs` leaves out subjects without any log.  Evidence of another machine that had the name before is left out.
        """
        for subject, copies in self._history(survey, subjects, with_logs=with_logs):
            yield subject, History(self, subject, list(copies))

    def history_digests(
        self, survey: str | None = None, subjects: Container[str] | None = None, *, with_logs: bool = False
    ) -> dict[str, tuple[bytes, ...]]:
        """Return the digests of the same evidence, which is not read for it."""
        return {subject: tuple(copies.values()) for subject, copies in self._history(survey, subjects, with_logs=with_logs)}

    def history_numbers(
        self, survey: str | None = None, subjects: Container[str] | None = None, *, with_logs: bool = False
    ) -> dict[str, tuple[int, ...]]:
        """Return the numbers of the same evidence."""
        return {subject: tuple(copies) for subject, copies in self._history(survey, subjects, with_logs=with_logs)}

    def mark_of_logs(self, survey: str | None = None) -> bytes | None:
        """Return a digest of which evidence all surveys up to one have, by their seals; ``None`` where no evidence has logs."""
        if not self._is_there() or not self.has_logs:
            return None
        rows = select(surveys.c.name, surveys.c.seal).where(surveys.c.finished).order_by(surveys.c.name)
        with self.database.reading() as connection:
            found = connection.execute(rows if survey is None else rows.where(surveys.c.name <= self.named(survey))).all()
        return blake2b(b"".join(name.encode() + bytes(seal or b"") for name, seal in found), digest_size=24).digest()

    def digests(self, numbers: Mapping[str, tuple[int, ...]]) -> dict[str, tuple[bytes, ...]]:
        """Return the digests of evidence by its numbers; without subjects of which some is no longer there."""
        with self.database.reading() as connection:
            heads = heads_of(connection, {number for some in numbers.values() for number in some})
        found = {subject: some for subject, some in numbers.items() if all(number in heads for number in some)}
        return {subject: tuple(heads[number].digest for number in some) for subject, some in found.items()}

    def numbered(self, numbers: Mapping[str, int]) -> StoredEvidence:
        """Return evidence by the number of each subject's; without subjects whose evidence is no longer there."""
        with self.database.reading() as connection:
            heads = heads_of(connection, set(numbers.values()))
        return StoredEvidence(self, {name: Stored(number, heads[number]) for name, number in numbers.items() if number in heads})

    def stored_answers(self) -> StoredAnswers:
        """Return what was concluded from the evidence in the ledger before."""
        return StoredAnswers(self.database, {})

    def _history(self, survey: str | None, subjects: Container[str] | None, *, with_logs: bool) -> list[tuple[str, dict[int, bytes]]]:
        """Return some subjects, each with the digests of its evidence by their numbers, the oldest first."""
        if not self._is_there():
            return []
        rows = COPIES if survey is None else COPIES.where(surveys.c.name <= self.named(survey))
        if isinstance(subjects, AbstractSet) and len(subjects) <= AT_ONCE:
            rows = rows.where(members.c.subject.in_(subjects))
        known: dict[str, dict[int, bytes]] = {}
        marks: dict[str, Identity] = {}
        logging = set()
        with self.database.reading() as connection:
            for subject, number, machine, host_keys, has_logs, digest in connection.execute(rows):
                if subjects is not None and subject not in subjects:
                    continue
                if digest is None:
                    raise LedgerError(f'ledger "{self.place}" is damaged: evidence of {subject} is missing', hint=_VERIFY)
                mark, copies = identity_of(machine, host_keys), known.setdefault(subject, {})
                if sameness(mark, marks.get(subject, mark)) is Sameness.OTHER:
                    copies.clear()  # another machine under the same name: what came before is not of it
                    logging.discard(subject)
                marks[subject] = mark
                copies.setdefault(number, bytes(digest))
                if has_logs:
                    logging.add(subject)
        return sorted((subject, copies) for subject, copies in known.items() if not with_logs or subject in logging)

    def load(self, subject: str, number: int) -> Bundle:
        """Return evidence by its number; of what cannot be read a gap, of evidence without a record nothing but that."""
        return self.load_checked(subject, number)[0]

    def load_checked(self, subject: str, number: int) -> tuple[Bundle, bool]:
        """Return evidence by its number, and whether all of it is what it was."""
        try:
            with self.database.reading() as connection:
                bundle, lost = read_evidence(connection, number)
        except (LedgerError, EvidenceError) as error:  # it costs this subject alone
            self.is_whole = False
            why = f'the evidence in ledger "{self.place}" could not be read: {error}; survey the subject again'
            return unread_bundle(subject, why), False
        self.is_whole = self.is_whole and not lost
        for gap in lost:
            self._notice(f"{subject}: {gap.path}: {gap.reason}")
        return bundle.named(subject), not lost

    def marks(self) -> dict[str, Identity]:
        """Return the marks of the machine that each name was last given to."""
        with self.database.reading() as connection:
            return {one.subject: one.head.identity for survey in newest_members(connection) for one in survey.members}

    def _is_there(self) -> bool:
        self._take_over()
        if not self.database.exists:
            return False
        with self.database.reading() as connection:
            return connection.dialect.has_table(connection, "members")

    def _take_over(self) -> None:
        """Import a folder of the form that ledgers had before, where there is one and it was not."""
        folder = self.place.folder
        if folder is not None and not self.database.exists and (folder / "ledger.json").exists():
            from fidelitas.ledger.transfer import take_over  # noqa: PLC0415 once in the life of a ledger

            take_over(folder, self.place)


def read_evidence(connection: Connection, number: int) -> tuple[Bundle, tuple[MissingItem, ...]]:
    """Return evidence by its number, and the gaps of contents that are damaged; raises `EvidenceError` where its record cannot be read."""
    reader = PieceReader(connection)
    record = reader.record(number)
    if record is None:
        raise EvidenceError(f"its record {next(iter(reader.faults.values()), 'is missing')}")
    parsed = parse_record(record)
    return bundle_of(parsed, reader.by_digest(parsed.digests.values()), reader.faults)


def _meant(survey: str, names: Sequence[str]) -> str | None:
    if survey in names:
        return survey
    last = _LAST.match(survey)
    if last:
        number = int(last[1] or 1)
        return names[-number] if 0 < number <= len(names) else None
    if _DAY.match(survey):
        with suppress(ValueError):
            day = date.fromisoformat(survey)
            return max((name for name in names if name[:10] <= day.isoformat()), default=None)
    return None
