"""What decides what a service or task runs: its settings, the programs and libraries that its command line names, folders above them.

A file belongs to anyone who may write it, or put another in its place: by deleting it, or a folder above it, and making a new one.
"""

from collections.abc import Iterable, Iterator, Mapping
from enum import Enum
from typing import NamedTuple

from fidelitas.facts import Place, SecuredPath, SecurityDescriptor, WindowsFacts, WindowsJob
from fidelitas.rights.windows.access import (
    ADD_FILE,
    ADD_FOLDER,
    CHANGE_KEY,
    CHANGE_SERVICE,
    DELETE,
    REPLACE_CHILD,
    TAKE_OVER,
    WRITE_FILE,
    Allowed,
    allowed_to,
)
from fidelitas.rights.windows.commands import files_run, folder_of, folders_above, is_unquoted, programs_tried, same_path

__all__ = ["Tampering", "WeakSpot", "WeakSpots", "tampering_clause"]


class Tampering(Enum):
    """How what a service or task runs can be decided by someone else."""

    RECONFIGURE = "reconfigure"
    KEY = "change-registry-key"
    REPLACE = "replace-program"
    BESIDE = "library-beside-program"
    ABOVE = "replace-folder"
    BEFORE = "path-tried-before"  # an unquoted path with blanks
    ABSENT = "make-what-is-not-there"

    __hash__ = object.__hash__


class WeakSpot(NamedTuple):
    """Someone beyond administrators who can make a service or task run something else: who, how, by which path, if what."""

    allowed: Allowed
    how: Tampering
    path: str
    place: Place
    condition: str | None = None


_CLAUSES = {
    Tampering.RECONFIGURE: "may reconfigure {job}",
    Tampering.KEY: "can write registry key {path}, which says what {job} runs",
    Tampering.REPLACE: "can write {path}, which {job} runs",
    Tampering.BESIDE: "can put files beside {path}, which {job} runs",
    Tampering.ABOVE: "can put another folder in the place of {path}, from which {job} runs its program",
    Tampering.BEFORE: "can make {path}, which is tried before the program of {job}",
    Tampering.ABSENT: "can make {path}, which {job} runs and which is not there",
}
_LIBRARY = "the program loads a library that is looked for there and is not there"


def tampering_clause(job: WindowsJob, spot: WeakSpot) -> str:
    """Return the clause that completes "P can decide what a job runs because …"."""
    return _CLAUSES[spot.how].format(path=spot.path, job=f"{job.kind} {job.name}")


class WeakSpots:
    """Who, beyond administrators, can make the services and tasks of a machine run something else."""

    def __init__(self, facts: WindowsFacts) -> None:
        self._paths: Mapping[str, SecuredPath] = {same_path(one.path): one for one in facts.paths}

    def of(self, job: WindowsJob) -> Iterator[WeakSpot]:
        """Yield the weak spots of a service or task."""
        for allowed in allowed_to(job.access, CHANGE_SERVICE):
            yield WeakSpot(allowed, Tampering.RECONFIGURE, "", job.place)
        for key in job.keys:
            for allowed in allowed_to(key.access, CHANGE_KEY):
                yield WeakSpot(allowed, Tampering.KEY, key.path, key.place)
        for command in (job.command, *job.further_commands):
            yield from self._by_command(command)

    def _by_command(self, command: str) -> Iterator[WeakSpot]:
        program = self.program_of(command)
        if program is not None:
            yield from self._by_file(program, is_program=True)
        for path in files_run(command):
            known = self._paths.get(same_path(path))
            if known is not None and not known.folder:
                yield from self._by_file(known, is_program=False)
        for path, folder in self.open_candidates(command):
            for allowed in allowed_to(folder.access, ADD_FILE):
                yield WeakSpot(allowed, Tampering.BEFORE, path, folder.place)

    def _by_file(self, file: SecuredPath, *, is_program: bool) -> Iterator[WeakSpot]:
        """Yield who can write a file, or put another in its place; beside a program libraries count, too."""
        folder = self._paths.get(same_path(folder_of(file.path)))
        if not file.exists:
            if folder is not None and folder.exists:
                for allowed in allowed_to(folder.access, ADD_FILE):
                    yield WeakSpot(allowed, Tampering.ABSENT, file.path, folder.place)
            return
        for allowed in allowed_to(file.access, WRITE_FILE):
            yield WeakSpot(allowed, Tampering.REPLACE, file.path, file.place)
        if folder is not None:
            yield from self._by_folder(file, folder, is_program=is_program)
        yield from self._by_folders_above(file.path)

    def _by_folder(self, file: SecuredPath, folder: SecuredPath, *, is_program: bool) -> Iterator[WeakSpot]:
        replacing = _sids(folder.access, REPLACE_CHILD) | _sids(file.access, DELETE)
        for allowed in allowed_to(folder.access, ADD_FILE):
            replaces = allowed.sid in replacing or not replacing.isdisjoint(EVERYONE)
            if replaces or is_program:
                yield WeakSpot(allowed, Tampering.BESIDE, file.path, folder.place, None if replaces else _LIBRARY)

    def _by_folders_above(self, path: str) -> Iterator[WeakSpot]:
        """Yield who can move a folder on the way away and put another there, or take over one of those above it."""
        inner = self._paths.get(same_path(folder_of(path)))
        for outer_path in folders_above(folder_of(path)):
            outer = self._paths.get(same_path(outer_path))
            if outer is not None and inner is not None and outer.exists:
                moving = _sids(outer.access, REPLACE_CHILD) | _sids(inner.access, DELETE)
                everyone_moves = not moving.isdisjoint(EVERYONE)
                taking = _sids(outer.access, TAKE_OVER)
                for allowed in allowed_to(outer.access, ADD_FOLDER | TAKE_OVER):
                    if allowed.sid in moving or everyone_moves or allowed.sid in taking:
                        yield WeakSpot(allowed, Tampering.ABOVE, inner.path, outer.place)
            inner = outer

    def program_of(self, command: str) -> SecuredPath | None:
        """Return the program that a command line starts, where the evidence has it."""
        found = (self._paths.get(same_path(path)) for path in programs_tried(command))
        return next((one for one in found if one is not None and one.exists and not one.folder), None)

    def open_candidates(self, command: str) -> Iterator[tuple[str, SecuredPath]]:
        """Yield paths that are tried before the program of an unquoted command line, each with the folder that it would be in."""
        program = self.program_of(command)
        if not is_unquoted(command) or program is None:
            return
        for path in programs_tried(command):
            if same_path(path) == same_path(program.path):
                return
            folder = self._paths.get(same_path(folder_of(path)))
            if folder is not None and folder.exists:
                yield path, folder


EVERYONE = frozenset({"S-1-1-0", "S-1-5-11"})


def _sids(access: SecurityDescriptor | None, wanted: int) -> set[str]:
    return {allowed.sid for allowed in _sure(allowed_to(access, wanted))}


def _sure(every: Iterable[Allowed]) -> Iterator[Allowed]:
    return (one for one in every if not one.condition)
