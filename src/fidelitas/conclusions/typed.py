"""The form in which conclusions are kept: MessagePack, read back as the types that it was made of, and as nothing else.

Whatever is not of that form is refused with `ConclusionError`, and the evidence is judged again.  Text that is not Unicode cannot be
stated: what has such names is not kept.
"""

from collections import Counter
from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any, Protocol, TypeVar, get_args, get_origin

import msgspec
from msgspec import Struct

from fidelitas.facts import Gap
from fidelitas.findings import Finding
from fidelitas.rights.linux.dates import Span
from fidelitas.rights.linux.summary import HostSummary

__all__ = [
    "FINDINGS",
    "AnswerStore",
    "Conclusion",
    "ConclusionError",
    "Mark",
    "Share",
    "decode",
    "encode",
]

T = TypeVar("T")


class Mark(Protocol):
    """What is known of evidence without reading it.

    `digest` is of all of it; `stated` of what is the same whenever it is taken; `frame` of its files, which others may have as well.
    """

    @property
    def digest(self) -> bytes: ...
    @property
    def stated(self) -> bytes: ...
    @property
    def frame(self) -> bytes: ...
    @property
    def taken(self) -> datetime: ...


class AnswerStore(Protocol):
    """Where conclusions are kept, by key."""

    def marks(self) -> Mapping[str, Mark]:
        """Return what is known of the evidence of each subject, by the subject's name; of damaged evidence nothing."""

    def get(self, keys: Iterable[bytes], /) -> Mapping[bytes, bytes]:
        """Return what is kept under some keys."""

    def put(self, kept: Mapping[bytes, bytes], rules: bytes, /) -> bool:
        """Keep something, and say by which rules it was concluded; return whether it is kept."""


class ConclusionError(Exception):
    """What was kept is not of the form."""


class Share(Struct, frozen=True, kw_only=True):
    """That a host's evidence states what another's does: the key of that one, and what is the host's own.

    It holds for evidence of another time within the `span` in which none of the dates passes that the host's policy and accounts name;
    where processes of the moment are cited, for `only` that evidence.
    """

    like: bytes
    host_name: str
    span: Span
    only: bytes | None

    def holds_for(self, mark: Mark) -> bool:
        """Return whether it holds for evidence that states the same."""
        since, until = self.span
        moment = mark.taken.timestamp()
        return self.only in (None, mark.digest) and (since is None or since <= moment) and (until is None or moment < until)


class Conclusion(Struct, frozen=True, kw_only=True):
    """What was concluded of a host, and of all that state the same.

    `names` are the accounts and groups that it has by itself.
    """

    taken_by: int | None
    live: bool
    gaps: tuple[Gap, ...]
    summary: HostSummary
    names: frozenset[str]
    accounts: dict[str, bool | None]  # its own, each with whether someone can log in by it
    comments: dict[str, str]  # what is noted of those, where anything is


def encode(value: object) -> bytes | None:
    """Return a value in the form, or ``None`` where it holds text that cannot be stated."""
    try:
        return msgspec.msgpack.encode(value)
    except UnicodeEncodeError:
        return None


def decode(content: bytes, kind: type[T]) -> T:
    """Return the value that was kept; raises `ConclusionError`."""
    try:
        return msgspec.msgpack.decode(content, type=kind, dec_hook=_counter)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError, NotImplementedError) as error:
        raise ConclusionError(str(error)) from error


def _counter(kind: Any, stated: object) -> object:
    """Return what was kept of counts, which MessagePack has as a map."""
    if get_origin(kind) is not Counter:
        raise NotImplementedError(f"{kind} is not of the form")
    (counted,) = get_args(kind)
    return Counter(msgspec.convert(stated, dict[counted, int]))  # type: ignore[valid-type]


FINDINGS = tuple[Finding, ...]
