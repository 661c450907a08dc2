"""What names one subject told of another: facts, links, findings, and whatever is made of them.

Which fields of a type can name a subject is worked out by their types, once.
"""

from collections.abc import Callable
from datetime import datetime
from enum import Enum
from functools import cache
from operator import is_
from typing import Any, Generic, TypeVar, cast, get_args, get_type_hints

from msgspec import Struct
from msgspec.structs import replace

from fidelitas.facts import Place

__all__ = ["Renaming", "renamed"]

_PLAIN = (str, int, float, bytes, Enum, datetime, type(None))

T = TypeVar("T")


class Renaming(Generic[T]):
    """A value that is to be told of many subjects: where it names its own, `old`, is looked up once."""

    def __init__(self, value: T, old: str) -> None:
        self._value, self._old = value, old
        self._made = _making(value, old)

    def __call__(self, new: str) -> T:
        """Return the same as `renamed`."""
        return self._value if self._made is None or new == self._old else cast(T, self._made(new))


_Made = Callable[[str], Any]


def _making(value: Any, old: str) -> _Made | None:
    """Return what makes a value that of a subject of another name; nothing of what names none."""
    kind = value.__class__
    if kind is Place:
        rest = value[1:]
        return (lambda new: tuple.__new__(Place, (new, *rest))) if value[0] == old else None
    if kind is tuple or kind is list:
        return _making_of_many(value, kind, old)
    if kind is dict:
        many = _making_of_many(list(value.values()), list, old)
        return None if many is None else lambda new: dict(zip(value, many(new), strict=True))
    return _making_of_fields(value, old)


def _making_of_many(value: Any, kind: Callable[[Any], Any], old: str) -> _Made | None:
    made = [(one, _making(one, old)) for one in value]
    if all(make is None for _, make in made):
        return None
    return lambda new: kind([one if make is None else make(new) for one, make in made])


def _making_of_fields(value: Any, old: str) -> _Made | None:
    names = [name for name in _names_of(value.__class__) if getattr(value, name).__class__ is not str]
    made = [(name, make) for name in names if (make := _making(getattr(value, name), old)) is not None]
    if "subject" in _names_of(value.__class__) and value.subject == old:
        made.append(("subject", lambda new: new))
    return (lambda new: replace(value, **{name: make(new) for name, make in made})) if made else None


def renamed(value: T, old: str, new: str) -> T:
    """Return facts, links or findings of one subject as those of another; what is of a third stays."""
    return value if old == new else cast(T, _Renaming(old, new)(value))


class _Renaming:
    def __init__(self, old: str, new: str) -> None:
        self._old = old
        self._new = new
        self._done: dict[int, tuple[Any, Any]] = {}  # by identity; the original is held, so that its identity stays its own

    def __call__(self, value: Any) -> Any:
        kind = value.__class__
        if kind is str or kind is int or value is None:
            return value
        if kind is Place:
            return tuple.__new__(Place, (self._new, *value[1:])) if value[0] == self._old else value
        if kind is tuple:
            return self._once(value, self._tuple)
        if kind is list:
            return [self(one) for one in value]
        if kind is dict:
            return {key: self(one) for key, one in value.items()}
        return self._once(value, self._fields) if _names_of(kind) else value

    def _once(self, value: Any, make: Callable[[Any], Any]) -> Any:
        known = self._done.get(id(value))
        if known is None:
            known = self._done[id(value)] = (value, make(value))
        return known[1]

    def _tuple(self, value: tuple[Any, ...]) -> tuple[Any, ...]:
        after = list(map(self, value))
        return value if all(map(is_, after, value)) else tuple(after)

    def _fields(self, value: Any) -> Any:
        changed = {}
        for name in _names_of(value.__class__):
            before = getattr(value, name)
            if before.__class__ is str:
                if name == "subject" and before == self._old:
                    changed[name] = self._new
            elif before is not None and (after := self(before)) is not before:
                changed[name] = after
        return replace(value, **changed) if changed else value


@cache
def _names_of(kind: Any) -> tuple[str, ...]:
    """Return the fields of a kind of values that can name a subject; none of one that has no fields."""
    if not issubclass(kind, Struct):
        return ()
    hints = get_type_hints(kind)
    return tuple(name for name in kind.__struct_fields__ if name == "subject" or _may_name(hints[name]))


def _may_name(hint: Any) -> bool:
    """Return whether values of a type can name a subject: what is made of texts and numbers alone does not."""
    within = [one for one in get_args(hint) if one is not Ellipsis]
    return any(map(_may_name, within)) if within else not (isinstance(hint, type) and issubclass(hint, _PLAIN))
