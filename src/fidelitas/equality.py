"""Values that are equal whatever some of their fields are: a fact is the same fact on another line."""

from collections.abc import Callable
from operator import attrgetter
from typing import Any, TypeVar

from msgspec import Struct

__all__ = ["equal_apart_from"]

S = TypeVar("S", bound=Struct)


def equal_apart_from(*apart: str) -> Callable[[type[S]], type[S]]:
    """Return a decorator by which the values of a class are equal, and have one hash, if all their fields but some are equal.

    A class that is derived from it and has more fields must be decorated itself.
    """

    def decorated(kind: type[S]) -> type[S]:
        of = attrgetter(*(name for name in kind.__struct_fields__ if name not in apart))

        def equals(one: Any, other: object) -> bool:
            return of(one) == of(other) if other.__class__ is one.__class__ else NotImplemented

        def hash_of(one: Any) -> int:
            return hash(of(one))

        kind.__eq__ = equals  # type: ignore[method-assign]
        if not kind.__struct_config__.frozen:
            kind.__hash__ = None  # type: ignore[method-assign,assignment]
        elif "__hash__" not in vars(kind):  # a class can have a cheaper one
            kind.__hash__ = hash_of  # type: ignore[method-assign,assignment]
        return kind

    return decorated
