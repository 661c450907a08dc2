"""What judges evidence of each platform: pure functions of evidence and context, that another process can run as well.

    judge(evidence, context) → rights on one subject

`HostGroups` is the map over groups of equal hosts: the first of a group is judged, the others are told from it.
"""

from collections.abc import Callable, Hashable, Sequence
from typing import Protocol, TypeVar

from fidelitas.facts import HostFacts
from fidelitas.languages.directory import read_directory
from fidelitas.languages.evidence import HostEvidence
from fidelitas.languages.linux.content_digest import LIVE, content_digest
from fidelitas.languages.linux.host import read_host
from fidelitas.languages.linux.running import read_processes
from fidelitas.languages.mariadb import read_mariadb
from fidelitas.languages.postgresql import read_postgresql
from fidelitas.languages.windows.machine import read_windows
from fidelitas.memberships import Edits, with_edits
from fidelitas.rights import (
    DirectoryRights,
    HostRights,
    SubjectRights,
    Takings,
    database_rights_of,
    directory_rights_of,
    mariadb_rights_of,
    rights_of,
    windows_rights_of,
)
from fidelitas.rights.estate.overlay import FirstHost, HostOverlay, OwnDetails, host_specific_key

__all__ = ["Context", "HostGroups", "Judge", "judge_directory", "judge_host", "judge_mariadb", "judge_postgresql", "judge_windows"]


class Stated(Protocol):
    """The facts of one subject."""

    @property
    def subject(self) -> str:
        """The subject."""


F = TypeVar("F", bound=Stated)


class Context:
    """What other subjects give to the judging of one: the directories in evidence, and the memberships that hosts take from each.

    With `edits` each subject is judged as if these had been made there.
    """

    def __init__(self, directories: Sequence[DirectoryRights] = (), edits: Edits | None = None) -> None:
        self.directories, self.edits = tuple(directories), edits or {}
        self.takings = Takings(self.directories)

    def taking_key(self, facts: HostFacts, host: str) -> Hashable:
        """Return what a host of some name takes of directories follows from, where it states what `facts` do."""
        return self.takings.key(facts.directories, host)

    def as_if(self, facts: F) -> F:
        """Return the facts of a subject as they would be with the edits made."""
        return with_edits(facts, self.edits.get(facts.subject, ()))


Judge = Callable[[HostEvidence, Context], SubjectRights]


def judge_host(evidence: HostEvidence, context: Context) -> HostRights:
    """Return the rights on a Linux host."""
    facts = context.as_if(read_host(evidence))
    return rights_of(*context.takings.state(facts))


def judge_windows(evidence: HostEvidence, context: Context) -> SubjectRights:
    """Return the rights on a Windows machine."""
    return windows_rights_of(context.as_if(read_windows(evidence)), context.directories)


def judge_directory(evidence: HostEvidence, context: Context) -> SubjectRights:
    """Return the rights in a directory."""
    return directory_rights_of(context.as_if(read_directory(evidence)))


def judge_postgresql(evidence: HostEvidence, context: Context) -> SubjectRights:
    """Return the rights on a PostgreSQL server."""
    return database_rights_of(context.as_if(read_postgresql(evidence)))


def judge_mariadb(evidence: HostEvidence, context: Context) -> SubjectRights:
    """Return the rights on a MariaDB or MySQL server."""
    return mariadb_rights_of(context.as_if(read_mariadb(evidence)))


class HostGroups:
    """Hosts by what their evidence states: of those that state the same one is judged, and speaks for the others."""

    def __init__(self) -> None:
        self._known: dict[Hashable, dict[Hashable, FirstHost]] = {}

    def judge(self, evidence: HostEvidence, context: Context) -> HostRights:
        """Return the rights on a host, from those of another that states the same where there is one."""
        edits = tuple((edit.account, edit.group, edit.added) for edit in context.edits.get(evidence.subject, ()))
        alike = self._known.setdefault((content_digest(evidence), edits), {})
        own, one = _own(evidence), next(iter(alike.values()), None)
        key = _key(one.rights, own, context) if one is not None else None
        first = alike.get(key) if key is not None else None
        if first is not None:
            return HostOverlay(first, own)
        rights = judge_host(evidence, context)
        alike[key or _key(rights, own, context) or evidence.subject] = FirstHost(rights)
        return rights


def _key(rights: HostRights, own: OwnDetails, context: Context) -> Hashable | None:
    """Return what is a host's own of what follows from the evidence that `rights` are of; nothing where that is its own alone."""
    key = host_specific_key(rights.facts, rights.population, own)
    return None if key is None else (key, context.taking_key(rights.facts, own.host_name or own.subject))


def _own(evidence: HostEvidence) -> OwnDetails:
    return OwnDetails(
        subject=evidence.subject,
        host_name=evidence.host_name,
        taken=evidence.taken,
        addresses=None if evidence.addresses is None else tuple(evidence.addresses),
        processes=read_processes({name: content for name, content in evidence.listings.items() if name in LIVE}),
    )
