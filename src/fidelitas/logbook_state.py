"""Where the reading of a place's logs stood, in a form that can be kept: what a later reading goes on from, when lines were added.

The form holds plain values and things of the classes that are listed here, and nothing else comes of it: no code is run by it.  A class
states by its fields, or slots, what there is of it.  What can change is held once, however many others refer to it.
"""

from array import array
from collections import Counter, deque
from collections.abc import Callable, Iterable, Mapping
from datetime import UTC, datetime, timedelta
from enum import Enum
from itertools import chain
from typing import Any
from zoneinfo import ZoneInfo

import msgspec
from msgspec import Struct
from msgspec.structs import force_setattr

from fidelitas.facts import Change, Event, EventKind, Gap, GapKind, Place, TimeJump
from fidelitas.languages.logs import audit_within, deduplication, handed_on, in_hand, pam_verdicts, reading, sudo_file, sudo_stream
from fidelitas.languages.logs.deduplication import Sourced
from fidelitas.languages.logs.reading import ReadingState
from fidelitas.languages.logs.so_far import Extent
from fidelitas.usage import (
    AttributedEvent,
    AttributionBasis,
    HostUse,
    LatestSoFar,
    New,
    Notable,
    Packed,
    People,
    Session,
    active_hours,
    failures,
    host_use,
    novelties,
    sessions,
)
from fidelitas.usage.active_hours import FirstUse
from fidelitas.usage.persons import KnownProcess, RecentUse
from fidelitas.usage.sessions import Numbered

__all__ = ["PlaceState", "StateError", "frozen", "thawed"]


class PlaceState(Struct):
    """Where the reading of the logs of a place stood, and what they amounted to by then; `premises` is what it rests on besides."""

    premises: tuple[object, ...]
    reading: ReadingState
    hosts: dict[str, HostUse]
    by_written_name: dict[str, HostUse]
    people: People
    latest: LatestSoFar


class StateError(Exception):
    """What was kept is not of the form."""


_LISTED: tuple[type, ...] = (
    PlaceState, Gap, *reading.LASTING, *in_hand.LASTING, *deduplication.LASTING, *audit_within.LASTING, *sudo_stream.LASTING,
    *pam_verdicts.LASTING,
    *handed_on.LASTING,    *host_use.LASTING, *sessions.LASTING, *active_hours.LASTING, *failures.LASTING, *novelties.LASTING,
)  # fmt: skip
_ENUMERATIONS: tuple[type[Enum], ...] = (EventKind, Change, GapKind, AttributionBasis, Notable, New, *sudo_file.LASTING)
_TUPLES: tuple[Any, ...] = (Event, Place, TimeJump, AttributedEvent, RecentUse, KnownProcess, Sourced, Extent)
_PACKED: tuple[Any, ...] = (Session, AttributedEvent, FirstUse)

# -- the form ----------------------------------------------------------------------------------------------------------------------

_EPOCH, _TICK = datetime(1970, 1, 1, tzinfo=UTC), timedelta(microseconds=1)
_PLAIN: frozenset[type] = frozenset({type(None), bool, int, float, str, bytes})
# What begins the form of each sort of value: of those that cannot change, and of those that can.
_THING, _TUPLE, _SET_FOR_EVER, _TIME, _LOCAL_TIME, _DURATION, _MEMBER, _NAMED_TUPLE, _ZONE = range(9)
_LIST, _SET, _DICT, _COUNTER, _DEQUE, _ARRAY, _BYTES, _NUMBERED, _OF_PACKED, _FIRST_LISTED = range(10)
_NUMBERS = {one: number for number, one in enumerate(_LISTED)}
_MEMBER_OF = {one: number for number, one in enumerate(_ENUMERATIONS)}
_TUPLE_OF = {one: number for number, one in enumerate(_TUPLES)}
_DECODERS = [msgspec.msgpack.Decoder(one).decode for one in _TUPLES]


def frozen(state: PlaceState) -> bytes | None:
    """Return a state in the form; ``None`` where it holds what has none, such as text that is not Unicode."""
    try:
        return msgspec.msgpack.encode(_Freezing().all_of(state))
    except (StateError, UnicodeEncodeError, OverflowError):
        return None


def thawed(content: bytes, moved: Mapping[str, str] | None = None) -> PlaceState:
    """Return the state of a form, in which places in logs that were `moved` are under their paths now; raises `StateError`."""
    try:
        state = _Thawing(msgspec.msgpack.decode(content), moved or {}).all_of_it()
    except (msgspec.MsgspecError, ValueError, TypeError, LookupError, AttributeError, OverflowError) as error:
        raise StateError(str(error)) from error
    if not isinstance(state, PlaceState):
        raise StateError("no state")
    return state


def _names(kind: Any) -> tuple[str, ...]:
    names: tuple[str, ...] = kind.__struct_fields__ if issubclass(kind, msgspec.Struct) else kind.__slots__
    return names


def _fields(thing: Any) -> Iterable[object]:
    return (getattr(thing, name) for name in _names(thing.__class__))


class _Freezing:
    """Gives each thing that can change a number; those that were met are stated one after another."""

    def __init__(self) -> None:
        self._numbers: dict[int, int] = {}
        self._met: list[Any] = []

    def all_of(self, root: object) -> list[object]:
        value = self._of(root)
        return [value, [self._stated(thing) for thing in self._met]]  # which grows meanwhile

    def _of(self, value: Any) -> object:
        kind = value.__class__
        if kind in _PLAIN:
            return value
        if kind is tuple:
            return [_TUPLE, *map(self._of, value)]
        if kind in _TUPLE_OF:
            return [_NAMED_TUPLE, _TUPLE_OF[kind], msgspec.msgpack.encode(value)]
        if kind in _MEMBER_OF:
            return [_MEMBER, _MEMBER_OF[kind], value.name]
        if kind is datetime:
            return _time(value)
        if kind is timedelta:
            return [_DURATION, value // _TICK]
        if kind is frozenset:
            return [_SET_FOR_EVER, *map(self._of, value)]
        if kind is ZoneInfo or value is UTC:
            return [_ZONE, value.key if kind is ZoneInfo else ""]
        number = self._numbers.get(id(value))
        if number is None:
            number = self._numbers[id(value)] = len(self._met)
            self._met.append(value)
        return [_THING, number]

    def _all(self, values: Iterable[Any]) -> list[object]:
        """Return the forms of values, most of which are plain ones, as those that stand beside them."""
        found = list(values)
        return found if _PLAIN.issuperset(map(type, found)) else list(map(self._of, found))

    def _stated(self, thing: Any) -> list[object]:
        kind = thing.__class__
        if kind in _NUMBERS:
            return [_FIRST_LISTED + _NUMBERS[kind], *map(self._of, _fields(thing))]
        if kind is dict or kind is Counter:
            return [_DICT if kind is dict else _COUNTER, *self._all(chain.from_iterable(thing.items()))]
        if kind is list or kind is set:
            return [_LIST if kind is list else _SET, *self._all(thing)]
        if kind is Packed:
            of, *parts = thing.parts
            return [_OF_PACKED, _PACKED.index(of), *map(self._of, parts)]
        if kind is deque:
            return [_DEQUE, thing.maxlen, *map(self._of, thing)]
        if kind is array:
            return [_ARRAY, thing.typecode, thing.tobytes()]
        if kind is bytearray:
            return [_BYTES, bytes(thing)]
        if kind is Numbered:
            return [_NUMBERED, *map(self._of, thing.values())]
        raise StateError(f"no form of {kind.__name__}")


def _time(at: datetime) -> list[object]:
    if at.tzinfo is None:
        return [_LOCAL_TIME, (at - _EPOCH.replace(tzinfo=None)) // _TICK]
    if at.utcoffset():
        raise StateError("no form of a time that is not in UTC")
    return [_TIME, (at - _EPOCH) // _TICK]


class _Thawing:
    """Makes all things first, which then may refer to each other."""

    def __init__(self, stated: Any, moved: Mapping[str, str]) -> None:
        self._root, self._forms = stated
        self._moved = moved
        self._things = [_EMPTY.get(sort, _listed)(sort, *parts) for sort, *parts in self._forms]

    def all_of_it(self) -> object:
        for thing, (sort, *parts) in zip(self._things, self._forms, strict=True):
            self._fill(thing, sort, parts)
        for packed in self._things if self._moved else ():
            if isinstance(packed, Packed):
                packed.replace_packed(self._here)
        return self._of(self._root)

    def _of(self, stated: Any) -> Any:
        if stated.__class__ is not list:
            return stated
        sort, *parts = stated
        if sort == _THING:
            return self._things[parts[0]]
        if sort == _NAMED_TUPLE and self._moved:
            return self._here(_MADE[sort](*parts))
        return _MADE[sort](*parts) if sort in _MADE else _MADE_OF[sort](*map(self._of, parts))

    def _here(self, value: Any) -> Any:
        """Return a value with the paths that logs have now."""
        kind = value.__class__
        if kind is Place:
            return value._replace(path=self._moved[value.path]) if value.path in self._moved else value
        if kind is tuple:
            return tuple(map(self._here, value))
        if hasattr(kind, "_make"):  # a named tuple
            return kind._make(map(self._here, value))
        if kind is Session:
            value.place = self._here(value.place)
        return value

    def _all(self, parts: list[Any]) -> list[Any]:
        return list(map(self._of, parts)) if list in set(map(type, parts)) else parts

    def _fill(self, thing: Any, sort: int, parts: list[Any]) -> None:
        if sort >= _FIRST_LISTED:
            fill = force_setattr if isinstance(thing, msgspec.Struct) else object.__setattr__
            for name, part in zip(_names(thing.__class__), parts, strict=True):
                fill(thing, name, self._of(part))
        elif sort in (_DICT, _COUNTER):
            values = iter(self._all(parts))
            thing.update(dict(zip(values, values, strict=True)))
        elif sort == _LIST:
            thing.extend(self._all(parts))
        elif sort == _SET:
            thing.update(self._all(parts))
        elif sort == _DEQUE:
            thing.extend(map(self._of, parts[1:]))
        elif sort == _NUMBERED:
            thing.update({id(one): one for one in map(self._of, parts)})
        elif sort == _OF_PACKED:
            thing.take_parts(*map(self._of, parts[1:]))


def _listed(sort: int, *parts: object) -> object:
    """Return a thing of a listed class, which is filled later."""
    kind = _LISTED[sort - _FIRST_LISTED]
    return kind(**dict(zip(_names(kind), parts, strict=True))) if issubclass(kind, msgspec.Struct) else object.__new__(kind)


_EMPTY: Mapping[int, Callable[..., object]] = {
    _LIST: lambda *_: [],
    _SET: lambda *_: set(),
    _DICT: lambda *_: {},
    _COUNTER: lambda *_: Counter(),
    _DEQUE: lambda _, most, *__: deque(maxlen=most),
    _ARRAY: lambda _, typecode, content: array(typecode, content),
    _BYTES: lambda _, content: bytearray(content),
    _NUMBERED: lambda *_: Numbered(),
    _OF_PACKED: lambda _, of, *__: Packed(_PACKED[of]),
}
# Values that are made of plain ones, and those that are made of others.
_MADE: Mapping[int, Callable[..., object]] = {
    _TIME: lambda ticks: _EPOCH + ticks * _TICK,
    _LOCAL_TIME: lambda ticks: _EPOCH.replace(tzinfo=None) + ticks * _TICK,
    _DURATION: lambda ticks: ticks * _TICK,
    _MEMBER: lambda of, name: _ENUMERATIONS[of][name],
    _ZONE: lambda key: ZoneInfo(key) if key else UTC,
    _NAMED_TUPLE: lambda of, content: _DECODERS[of](content),
}
_MADE_OF: Mapping[int, Callable[..., object]] = {
    _TUPLE: lambda *parts: parts,
    _SET_FOR_EVER: lambda *parts: frozenset(parts),
}
