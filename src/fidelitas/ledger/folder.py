"""A ledger in a folder.

::

    LEDGER/ledger.json                     the format and its version
    LEDGER/surveys/2026-11-23T071742Z.json which subject has which evidence
    LEDGER/surveys/….unfinished            what an interrupted survey had stored, a line each
    LEDGER/evidence/ab/abcdef….tar.zst     bundles, by the SHA-256 of the archive as it came

Evidence tells who is root where: the folder is made for its owner alone.
"""

import hashlib
import json
import os
import re
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import zstandard

from fidelitas.errors import EvidenceError, LedgerError, RequestError
from fidelitas.evidence import Bundle, Identity, Sameness, is_valid_subject_name, read_bundle, read_head, sameness, unread_bundle

__all__ = ["Draft", "Ledger", "Stored", "StoredEvidence", "Survey"]

FORMAT = "fidelitas-ledger"
VERSION = 1
_UNFINISHED = ".unfinished"
_SECOND = len("2026-11-23T071742")  # of the name of a survey, and of the notes of one
_NAME = re.compile(r"\d{4}-\d\d-\d\dT\d{6}Z(?:-\d+)?\Z")
_DIGEST = re.compile(r"[0-9a-f]{64}\Z")


@dataclass(frozen=True, slots=True, kw_only=True)
class Survey:
    """One dated pass: its name, and the digest of each subject's evidence."""

    name: str
    subjects: Mapping[str, str]
    identities: Mapping[str, Identity] = field(default_factory=dict)
    heads: Mapping[str, "Head"] = field(default_factory=dict)
    notes: tuple[str, ...] = ()  # what is odd about it beside the surveys before


@dataclass(frozen=True, slots=True)
class Head:
    """What evidence says of itself: its platform, and what the subject calls itself."""

    platform: str
    host_name: str


class Ledger:
    """Surveys and their evidence.  Nothing is ever changed or removed."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def add(self, collected: Iterable[tuple[Bundle, bytes]], now: datetime) -> Survey:
        """Store one survey of bundles and the archives they were read from; raises `LedgerError` where that fails."""
        draft = self.draft()
        for bundle, archive in collected:
            draft.add(bundle, archive)
        return draft.finish(now)

    def draft(self, *, noted: bool = False) -> "Draft":
        """Return a survey to which evidence is added piece by piece; raises `LedgerError` where nothing can be written.

        What is added is `noted` where an interrupted survey shall be completed later (`unfinished`).
        """
        with self._writing():
            self._prepare()
            return Draft(self, self._identities(), noted=noted)

    def unfinished(self) -> "Draft | None":
        """Return the last survey that was interrupted, with what had arrived by then; none where a later one was finished."""
        last = max((found.name[:_SECOND] for found in self.surveys()), default="")
        with self._writing():
            records = [one for one in sorted((self.path / "surveys").glob(f"*{_UNFINISHED}")) if one.name[:_SECOND] >= last]
            if not records:
                return None
            draft = self.draft(noted=True)
            draft.take_up(records[-1])
        return draft

    @contextmanager
    def _writing(self) -> Iterator[None]:
        try:
            yield
        except OSError as error:
            raise LedgerError(
                f'could not write to ledger "{self.path}": {error.strerror or error}',
                hint="Name another folder with --ledger.",
            ) from error

    def surveys(self) -> tuple[Survey, ...]:
        """Return all surveys, the oldest first; none where there is no ledger yet."""
        try:
            names = sorted(path.stem for path in (self.path / "surveys").glob("*.json"))
        except OSError as error:
            raise LedgerError(f'could not read ledger "{self.path}": {error.strerror or error}') from error
        if names:
            self._check_version()
        return tuple(self._survey(name) for name in names if _NAME.match(name))

    def newest(self, survey: str | None = None) -> "StoredEvidence":
        """Return the newest evidence of every subject, or that of one survey; read when it is asked for."""
        surveys = self.surveys()
        if survey is not None:
            chosen = tuple(found for found in surveys if found.name == survey)
            if not chosen:
                known = ", ".join(found.name for found in surveys[-3:]) or "none"
                raise RequestError(f'there is no survey "{survey}" in ledger "{self.path}"', hint=f"The latest are: {known}.")
            surveys = chosen
        newest = {name: Stored(self, digest, found.heads.get(name)) for found in surveys for name, digest in found.subjects.items()}
        return StoredEvidence(dict(sorted(newest.items())))

    def bundles(self, survey: str | None = None) -> tuple[Bundle, ...]:
        """Return the newest evidence of every subject, or that of one survey, all at once."""
        stored = self.newest(survey)
        return tuple(stored.evidence(name) for name in stored.names)

    def history(self, survey: str | None = None, subjects: Container[str] | None = None) -> Iterator[tuple[str, list[Bundle]]]:
        """Yield each subject, or some, with all evidence of it, the oldest first; with `survey` up to that one.

        Evidence of another machine that had the name before is left out.
        """
        digests: dict[str, list[str]] = {}
        marks: dict[str, Identity] = {}
        for found in self.surveys():
            if survey is None or found.name <= survey:
                for subject, digest in found.subjects.items():
                    mark = found.identities.get(subject, Identity())
                    known = digests.setdefault(subject, [])
                    if sameness(mark, marks.get(subject, mark)) is Sameness.OTHER:
                        known.clear()  # another machine under the same name: what came before is not of it
                    marks[subject] = mark
                    if digest not in known:
                        known.append(digest)
        for subject, known in sorted(digests.items()):
            if subjects is None or subject in subjects:
                yield subject, [self.load(subject, digest) for digest in known]

    # -- the folder --------------------------------------------------------------------------------------------------------------

    def _prepare(self) -> None:
        for folder in (self.path, self.path / "surveys", self.path / "evidence"):
            folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        head = self.path / "ledger.json"
        if head.exists():
            self._check_version()
        else:
            _write(head, json.dumps({"format": FORMAT, "version": VERSION}).encode())

    def _identities(self) -> dict[str, Identity]:
        """Return the marks of the machine that each name was last given to."""
        return {subject: mark for found in self.surveys() for subject, mark in found.identities.items()}

    def _check_version(self) -> None:
        head = self.path / "ledger.json"
        stated = self._json(head)
        if stated.get("format") != FORMAT or stated.get("version") != VERSION:
            raise LedgerError(f'"{head}" is not of a ledger of version {VERSION}', hint="Name another folder with --ledger.")

    def _json(self, path: Path) -> dict[str, Any]:
        try:
            stated = json.loads(path.read_bytes())
        except OSError as error:
            raise LedgerError(f'could not read "{path}": {error.strerror or error}') from error
        except (ValueError, RecursionError) as error:
            raise LedgerError(f'"{path}" is not JSON: {error}', hint="The ledger was changed by something else.") from error
        if not isinstance(stated, dict):
            raise LedgerError(f'"{path}" does not hold a JSON object', hint="The ledger was changed by something else.")
        return stated

    def _survey(self, name: str) -> Survey:
        path = self.path / "surveys" / f"{name}.json"
        stated = self._json(path)
        subjects = stated.get("subjects")
        good = isinstance(subjects, dict) and all(
            is_valid_subject_name(subject) and isinstance(digest, str) and _DIGEST.match(digest) for subject, digest in subjects.items()
        )
        if not good:
            raise LedgerError(f'"{path}" does not list subjects and digests', hint="The ledger was changed by something else.")
        return Survey(
            name=name,
            subjects=subjects or {},
            identities=_identities_of(stated.get("identities")),
            heads=_heads_of(stated.get("identities")),
        )

    def place_of(self, digest: str) -> Path:
        """Return where evidence is kept."""
        return self.path / "evidence" / digest[:2] / f"{digest}.tar.zst"

    def store(self, archive: bytes) -> str:
        """Keep an archive, and return its digest; raises `LedgerError` where that fails."""
        digest = hashlib.sha256(archive).hexdigest()
        path = self.place_of(digest)
        with self._writing():
            if not path.exists():
                path.parent.mkdir(mode=0o700, exist_ok=True)
                _write(path, zstandard.compress(archive))
        return digest

    def holds(self, digest: str) -> bool:
        """Return whether evidence is here."""
        return self.place_of(digest).is_file()

    def note(self, notes: Path, line: bytes) -> None:
        """Add a line to the notes of an unfinished survey; raises `LedgerError` where that fails."""
        with self._writing():
            descriptor = os.open(notes, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW, 0o600)
            try:
                os.write(descriptor, line)
            finally:
                os.close(descriptor)

    def head(self, digest: str) -> "Head":
        """Return what evidence says of itself; of what cannot be read the platform that stands for it."""
        try:
            with self.place_of(digest).open("rb") as stream:
                manifest = read_head(stream)
        except (OSError, EvidenceError):
            return Head("linux", "")
        return Head(manifest.platform, manifest.subject)

    def record(self, subjects: Mapping[str, str], identities: Mapping[str, Identity], heads: Mapping[str, "Head"], now: datetime) -> Survey:
        """Write down a survey of evidence that is stored; raises `LedgerError` where that fails."""
        marks = {name: _marks(mark, heads[name]) for name, mark in identities.items()}
        content = json.dumps({"version": VERSION, "subjects": subjects, "identities": marks}, indent=1).encode()
        stem = now.astimezone(UTC).strftime("%Y-%m-%dT%H%M%SZ")
        count = 1
        while True:
            name = stem if count == 1 else f"{stem}-{count}"
            try:
                with self._writing():
                    _write(self.path / "surveys" / f"{name}.json", content)
            except LedgerError as error:  # two surveys in one second
                if not isinstance(error.__cause__, FileExistsError):
                    raise
                count += 1
            else:
                return Survey(name=name, subjects=subjects, identities=identities, heads=heads)

    def load(self, subject: str, digest: str) -> Bundle:
        """Return evidence by its digest; of what cannot be read nothing but a gap."""
        path = self.place_of(digest)
        try:
            with path.open("rb") as stream:
                return read_bundle(stream).named(subject)
        except (OSError, EvidenceError) as error:  # it costs this subject alone
            why = getattr(error, "strerror", None) or error
            return unread_bundle(subject, f'the evidence in the ledger, "{path}", could not be read: {why}; survey the subject again')


class Draft:
    """A survey in the making: evidence is stored as it comes, and nothing of it is held.

    What has arrived is noted in a file beside the surveys, a line each, so that an interrupted survey can be completed.
    """

    def __init__(self, ledger: Ledger, known: Mapping[str, Identity], *, noted: bool = False) -> None:
        self._ledger, self._known = ledger, known
        self._subjects: dict[str, str] = {}
        self._identities: dict[str, Identity] = {}
        self._heads: dict[str, Head] = {}
        stem = datetime.now(UTC).strftime("%Y-%m-%dT%H%M%S.%fZ")
        self._notes = ledger.path / "surveys" / f"{stem}-{os.getpid()}{_UNFINISHED}" if noted else None
        self._before: Path | None = None

    def add(self, bundle: Bundle, archive: bytes) -> None:
        """Store the evidence of a subject; the last of a name counts."""
        digest = self._ledger.store(archive)
        self._know(bundle.subject, digest, bundle.identity, Head(bundle.platform, bundle.host_name))

    def take_up(self, notes: Path) -> None:
        """Begin with what an interrupted survey had stored; a line that was cut off, or whose evidence is not there, is left out."""
        self._before = notes
        for line in notes.read_text(encoding="utf-8", errors="replace").splitlines():
            try:
                stated = json.loads(line)
                name, digest = stated["subject"], stated["digest"]
                mark, head = _identities_of({name: stated}).get(name, Identity()), _heads_of({name: stated}).get(name)
            except (ValueError, KeyError, TypeError, RecursionError):
                continue
            if head is not None and is_valid_subject_name(name) and _DIGEST.match(digest) and self._ledger.holds(digest):
                self._know(name, digest, mark, head)

    def _know(self, name: str, digest: str, mark: Identity, head: Head) -> None:
        self._subjects[name], self._identities[name], self._heads[name] = digest, mark, head
        if self._notes is not None:
            line = json.dumps({"subject": name, "digest": digest, **_marks(mark, head)})
            self._ledger.note(self._notes, line.encode() + b"\n")

    @property
    def stored(self) -> Mapping[str, "Stored"]:
        """What was stored so far."""
        return {name: Stored(self._ledger, digest, self._heads[name]) for name, digest in self._subjects.items()}

    def finish(self, now: datetime) -> Survey:
        """Write down the survey, and return it with what is odd about it."""
        survey = self._ledger.record(self._subjects, self._identities, self._heads, now)
        for notes in (self._notes, self._before):
            if notes is not None:
                notes.unlink(missing_ok=True)
        return replace(survey, notes=tuple(_strangers(self._identities, self._known)))


def _marks(mark: Identity, head: "Head") -> dict[str, Any]:
    """Return what a survey states of a subject besides its evidence."""
    return {"machine": mark.machine, "host_keys": sorted(mark.host_keys), "platform": head.platform, "host_name": head.host_name}


@dataclass(frozen=True, slots=True)
class Stored:
    """Where the evidence of a subject is kept."""

    ledger: Ledger
    digest: str
    head: Head | None


class StoredEvidence:
    """Evidence in a ledger, read when it is asked for."""

    def __init__(self, stored: Mapping[str, Stored]) -> None:
        self._stored = stored

    @property
    def names(self) -> Sequence[str]:
        """The names of the subjects."""
        return list(self._stored)

    def subjects(self) -> Mapping[str, tuple[str, str]]:
        """Return each subject's platform and what it calls itself, by name."""
        heads = {name: one.head or one.ledger.head(one.digest) for name, one in self._stored.items()}
        return {name: (head.platform, head.host_name) for name, head in heads.items()}

    def evidence(self, subject: str) -> Bundle:
        """Return the evidence of a subject."""
        one = self._stored[subject]
        return one.ledger.load(subject, one.digest)


def _heads_of(stated: object) -> dict[str, Head]:
    """Return what a survey states of the subjects themselves; of earlier surveys nothing, and it is read from the evidence."""
    found: dict[str, Head] = {}
    for name, marks in stated.items() if isinstance(stated, dict) else ():
        if isinstance(marks, dict) and isinstance(marks.get("platform"), str) and isinstance(marks.get("host_name"), str):
            found[name] = Head(marks["platform"], marks["host_name"])
    return found


def _identities_of(stated: object) -> dict[str, Identity]:
    """Return the marks that a survey states; those that are not as documented say nothing."""
    found: dict[str, Identity] = {}
    for name, marks in stated.items() if isinstance(stated, dict) else ():
        if isinstance(marks, dict) and isinstance(marks.get("machine"), str) and isinstance(marks.get("host_keys"), list):
            found[name] = Identity(marks["machine"], frozenset(key for key in marks["host_keys"] if isinstance(key, str)))
    return found


def _strangers(identities: Mapping[str, Identity], known: Mapping[str, Identity]) -> Iterator[str]:
    """Yield what is to be said of subjects that look like another machine than the one that had their name."""
    for name, mark in identities.items():
        verdict = sameness(mark, known.get(name, mark))
        if verdict is Sameness.OTHER:
            yield f'"{name}" is another machine than before: machine-id and host keys differ; what was read of the other is not added to it'
        elif verdict is Sameness.DOUBTFUL:
            yield f'"{name}" may be another machine than before: either its machine-id or its host keys differ, as with clones or new keys'


def _write(path: Path, content: bytes) -> None:
    """Write a new file whole or not at all; raises `FileExistsError` where there is one."""
    draft = path.with_name(f".{path.name}.{os.getpid()}")
    descriptor = os.open(draft, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    try:
        with open(descriptor, "wb") as stream:  # noqa: PTH123
            stream.write(content)
            stream.flush()
            os.fsync(stream.fileno())
        os.link(draft, path)
    finally:
        draft.unlink()
