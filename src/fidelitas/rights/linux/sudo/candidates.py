"""Which commands of a policy can decide a question, found by name rather than by trying all.

For one account that asks to act as another, the commands of the rules that are about both are kept in the order in which sudo tries them:
by base name where the path is literal, by folder where it names one and files are not known, and together where only a comparison can
tell.
"""

from collections.abc import Iterable, Iterator, Sequence
from heapq import merge

from fidelitas.patterns import has_wildcards
from fidelitas.rights.linux.sudo.grants import Leaf

__all__ = ["Candidate", "Candidates", "base_name"]

# The order in which it is tried, the number of its rule, and the command.
Candidate = tuple[int, int, Leaf]


class Candidates:
    """The commands of some rules, the last rule first."""

    def __init__(self, rules: Iterable[int], commands: Sequence[Sequence[Leaf]], *, files_known: bool) -> None:
        self._by_name: dict[str, list[Candidate]] = {}
        self._by_folder: dict[str, list[Candidate]] = {}
        self._others: list[Candidate] = []
        order = 0
        for index in rules:
            for leaf in commands[index]:
                order += 1
                self._list_for(leaf.command.path, files_known=files_known).append((order, index, leaf))

    def _list_for(self, path: str, *, files_known: bool) -> list[Candidate]:
        name = base_name(path)
        if name is not None:
            return self._by_name.setdefault(name, [])
        if not files_known and path.startswith("/") and path.endswith("/") and not has_wildcards(path):
            return self._by_folder.setdefault(path[:-1], [])
        return self._others

    def of(self, path: str) -> Iterable[Candidate]:
        """Return those that can be about a command, in the order in which they are tried."""
        folder, _, name = path.rpartition("/")
        lists = [one for one in (self._by_name.get(name), self._by_folder.get(folder), self._others) if one]
        return lists[0] if len(lists) == 1 else _merged(lists)


def _merged(lists: Sequence[Sequence[Candidate]]) -> Iterator[Candidate]:
    return merge(*lists, key=_order)


def _order(candidate: Candidate) -> int:
    return candidate[0]


def base_name(path: str) -> str | None:
    """Return the base name that a command must have to be a literal path's; ``None`` for patterns, folders and words."""
    if not path.startswith("/") or path.endswith("/") or has_wildcards(path):
        return None
    return path.rpartition("/")[2]
