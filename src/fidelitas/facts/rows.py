"""Facts of which there are so many that they are made when they are asked for."""

from collections.abc import Iterable, Iterator
from typing import Protocol, TypeVar

__all__ = ["Rows"]

T_co = TypeVar("T_co", covariant=True)


class Rows(Protocol[T_co]):
    """The facts of a large listing; all of them can be gone through, and those of a name are found without making the others."""

    def __iter__(self) -> Iterator[T_co]: ...

    def __len__(self) -> int: ...

    def named(self, name: str) -> Iterable[T_co]:
        """Return the facts whose name this is."""
        ...

    def containing(self, text: str) -> Iterable[T_co]:
        """Return the facts in whose row a text stands, and perhaps others."""
        ...
