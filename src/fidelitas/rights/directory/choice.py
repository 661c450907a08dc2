"""Which of the directories in evidence a host takes its accounts from: by the base of the tree or the realm that its files name."""

from collections.abc import Iterable, Sequence

from fidelitas.distinguished_names import folded
from fidelitas.facts import DirectorySource
from fidelitas.rights.directory.rights import DirectoryRights

__all__ = ["directories_of"]

Taken = tuple[DirectoryRights, DirectorySource | None]


def directories_of(sources: Sequence[DirectorySource], directories: Sequence[DirectoryRights]) -> tuple[Taken, ...]:
    """Return the directories in evidence that a host asks, in its order, each with what names it.

    Of several files that name one the first counts, with all domains of sssd; where none does, the only directory that there is, by what
    the first file says else.
    """
    named = [source for source in sources if source.realms or source.bases]
    found: list[Taken] = []
    for source in named:
        one = next((directory for directory in directories if _is_meant(source, directory)), None)
        if one is not None and all(one is not directory for directory, _ in found):
            found.append((one, source))
    if not found:
        return ((directories[0], next(iter(sources), None)),) if len(directories) == 1 and not named else ()
    return tuple(taken for taken in found if taken is found[0] or (_is_domain(taken) and _is_domain(found[0])))


def _is_domain(taken: Taken) -> bool:
    source = taken[1]
    return source is not None and "/sssd/" in source.place.path


def _is_meant(source: DirectorySource, directory: DirectoryRights) -> bool:
    return bool(directory.realms & set(source.realms)) or any(_holds(directory.tree, base) for base in source.bases)


def _holds(tree: frozenset[str], bases: Iterable[str] | str) -> bool:
    return folded(bases) in tree if isinstance(bases, str) else any(folded(base) in tree for base in bases)
