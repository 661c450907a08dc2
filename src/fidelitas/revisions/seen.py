"""The revisions of a policy that an estate's history shows: which subject had which, from when to when, and what took the place of what."""

import hashlib
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime

from msgspec import Struct, field

from fidelitas.languages.evidence import HostEvidence
from fidelitas.revisions.families import family_files

__all__ = ["Revision", "Step", "gather"]


class Step(Struct, frozen=True):
    """A subject that went from one revision to another, with its evidence before and after."""

    subject: str
    before: HostEvidence
    after: HostEvidence


class Revision(Struct):
    """One state of a policy: its files by path, when it was seen first and last, and which subjects have it now.

    `number` counts the revisions of an estate in the order in which they were seen first; `before` is the one whose place it took, on the
    subject of `step`.
    """

    number: int
    files: Mapping[str, bytes]
    first: datetime
    last: datetime
    subjects: list[str] = field(default_factory=list)  # that ever had it
    current: list[str] = field(default_factory=list)
    before: "Revision | None" = None
    step: Step | None = None

    @property
    def root(self) -> "Revision":
        """The first revision that this one goes back to."""
        found, passed = self, {id(self)}
        while found.before is not None and id(found.before) not in passed:
            found = found.before
            passed.add(id(found))
        return found


def gather(
    family: str,
    history: Iterable[tuple[str, Sequence[HostEvidence]]],
    files_of: Callable[[str, HostEvidence], Mapping[str, bytes]] = family_files,
) -> list[Revision]:
    """Return the revisions of a family in the history of some subjects, each with its evidence, the oldest first."""
    found: dict[bytes, Revision] = {}
    for subject, evidence in history:
        previous: tuple[bytes, HostEvidence] | None = None
        for one in evidence:
            files = files_of(family, one)
            if files:
                key = _digest(files)
                _note(found, key, files, subject, one, previous)
                previous = key, one
        if previous is not None:
            found[previous[0]].current.append(subject)
    ordered = sorted(found.values(), key=lambda one: (one.first, -len(one.subjects), sorted(one.subjects)))
    for number, revision in enumerate(ordered, 1):
        revision.number = number
    return ordered


def _note(
    found: dict[bytes, Revision],
    key: bytes,
    files: Mapping[str, bytes],
    subject: str,
    evidence: HostEvidence,
    previous: tuple[bytes, HostEvidence] | None,
) -> None:
    revision = found.setdefault(key, Revision(0, files, evidence.taken, evidence.taken))
    revision.first, revision.last = min(revision.first, evidence.taken), max(revision.last, evidence.taken)
    if subject not in revision.subjects:
        revision.subjects.append(subject)
    if previous is not None and previous[0] != key and revision.before is None:
        revision.before, revision.step = found[previous[0]], Step(subject, previous[1], evidence)


def _digest(files: Mapping[str, bytes]) -> bytes:
    digest = hashlib.sha256()
    for path, content in sorted(files.items()):
        digest.update(f"{len(path)}\0{path}\0{len(content)}\0".encode("utf-8", "surrogateescape") + content)
    return digest.digest()
