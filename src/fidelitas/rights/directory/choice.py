"""Which of the directories in evidence a host takes its accounts from: by the base of the tree or the realm that its files name."""

from collections.abc import Iterable, Sequence

from fidelitas.distinguished_names import folded
from fidelitas.facts import DirectorySource
from fidelitas.rights.directory.rights import DirectoryRights

__all__ = ["directory_of"]


def directory_of(sources: Sequence[DirectorySource], directories: Sequence[DirectoryRights]) -> DirectoryRights | None:
    """Return the directory that a host asks first, of those in evidence; where its files name none, the only one that there is."""
    named = [source for source in sources if source.realms or source.bases]
    for source in named:
        found = next((directory for directory in directories if _is_meant(source, directory)), None)
        if found is not None:
            return found
    return directories[0] if len(directories) == 1 and not named else None


def _is_meant(source: DirectorySource, directory: DirectoryRights) -> bool:
    return bool(directory.realms & set(source.realms)) or any(_holds(directory.tree, base) for base in source.bases)


def _holds(tree: frozenset[str], bases: Iterable[str] | str) -> bool:
    return folded(bases) in tree if isinstance(bases, str) else any(folded(base) in tree for base in bases)
