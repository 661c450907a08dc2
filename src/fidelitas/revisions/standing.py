"""How the policy of a subject stands to a repository: at the intended commit, behind it, or edited where it is.  Pure."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from difflib import SequenceMatcher
from enum import StrEnum

from msgspec import Struct

from fidelitas.revisions.seen import Revision

__all__ = ["Commit", "Repository", "Standing", "StandingKind", "commits_of", "line_changes", "standing_of", "standings_of"]


class Commit(Struct, frozen=True):
    """A commit of a policy's repository, with the files of a host that it has, by their paths there."""

    id: str
    author: str
    at: datetime
    comment: str
    files: Mapping[str, bytes]

    @property
    def short(self) -> str:
        """The beginning of its ID."""
        return self.id[:10]


class Repository(Struct, frozen=True):
    """The commits of a policy, the newest first; `intended` says by tag which is to be on the subjects with it, by its ID."""

    commits: Sequence[Commit]
    places: Sequence[str]  # the paths and folders of a host that it keeps
    intended: Mapping[str, str]

    def files_here(self, files: Mapping[str, bytes]) -> dict[str, bytes]:
        """Return those of a host's files that the repository keeps."""
        return {path: content for path, content in files.items() if any(_is_below(path, place) for place in self.places)}

    def commit_of(self, files: Mapping[str, bytes]) -> Commit | None:
        """Return the newest commit whose files are those that a host has; nothing where none is, or the host has none of them."""
        here = self.files_here(files)
        return next((commit for commit in self.commits if dict(commit.files) == here), None) if here else None

    def intended_for(self, tags: Iterable[str]) -> Commit | None:
        """Return the commit that is to be on a subject with some tags: the newest, unless one is named for a tag."""
        by_id = {commit.id: commit for commit in self.commits}
        named = next((self.intended[tag] for tag in tags if tag in self.intended), None)
        return by_id.get(named) if named is not None else (self.commits[0] if self.commits and not self.intended else None)


class StandingKind(StrEnum):
    """How a subject stands to the commit that is intended for it."""

    INTENDED = "as intended"
    BEHIND = "behind"
    AHEAD = "ahead"
    EDITED = "edited locally"
    UNINTENDED = "nothing is intended"


class Standing(Struct, frozen=True):
    """A kind, the commit that the policy is at or nearest to, how many commits lie between, and lines that differ from it."""

    kind: StandingKind
    commit: Commit | None = None
    distance: int = 0
    added: int = 0
    removed: int = 0
    files: tuple[str, ...] = ()


def standing_of(files: Mapping[str, bytes], tags: Iterable[str], repository: Repository) -> Standing:
    """Return how the files of a policy on a subject with some tags stand to a repository."""
    intended = repository.intended_for(tags)
    if intended is None:
        return Standing(StandingKind.UNINTENDED)
    at = repository.commit_of(files)
    if at is not None:
        numbers = {commit.id: number for number, commit in enumerate(repository.commits)}
        distance = numbers[at.id] - numbers[intended.id]
        kind = StandingKind.INTENDED if not distance else StandingKind.BEHIND if distance > 0 else StandingKind.AHEAD
        return Standing(kind, at, abs(distance))
    here = repository.files_here(files)
    nearest, (added, removed, changed) = min(
        ((commit, line_changes(commit.files, here)) for commit in repository.commits),
        key=lambda one: (one[1][0] + one[1][1], one[0] is not intended),
    )
    return Standing(StandingKind.EDITED, nearest, 0, added, removed, tuple(changed))


def line_changes(before: Mapping[str, bytes], after: Mapping[str, bytes]) -> tuple[int, int, list[str]]:
    """Return how many lines are added and removed from one state of files to another, and in which files."""
    added, removed, changed = 0, 0, []
    for path in sorted({*before, *after}):
        old, new = before.get(path, b"").splitlines(), after.get(path, b"").splitlines()
        if old != new or (path in before) != (path in after):
            changed.append(path)
            for kind, first, last, begin, end in SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
                removed += last - first if kind != "equal" else 0
                added += end - begin if kind != "equal" else 0
    return added, removed, changed


def _is_below(path: str, place: str) -> bool:
    return path.startswith(place) if place.endswith("/") else path == place


def commits_of(revisions: Sequence[Revision], repository: Repository) -> dict[int, Commit]:
    """Return the commit that each revision is, by its number; nothing of those that are none."""
    return {one.number: commit for one in revisions if (commit := repository.commit_of(one.files)) is not None}


def standings_of(revisions: Sequence[Revision], repository: Repository, tags: Mapping[str, Sequence[str]]) -> dict[str, Standing]:
    """Return how each subject that has a tag or none stands to the repository, by its name."""
    return {
        subject: standing_of(one.files, tags.get(subject, ()), repository)
        for one in revisions
        for subject in one.current
        if subject in tags
    }
