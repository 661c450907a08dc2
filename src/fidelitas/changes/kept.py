"""What changed on a subject, in the form in which it is kept: a second question about the same two states compares nothing again."""

from collections.abc import Mapping, Sequence
from hashlib import blake2b
from typing import Protocol

import msgspec

from fidelitas.changes.causes import Cause
from fidelitas.changes.held import Turn
from fidelitas.changes.parts import AccountChange, SubjectChanges
from fidelitas.changes.subject import RightChange
from fidelitas.conclusions.link_forms import HoldingsForm, LinkTable, holding_form, holdings_in
from fidelitas.conclusions.rules import rules_digest
from fidelitas.conclusions.typed import ConclusionError, decode, encode
from fidelitas.facts import Gap
from fidelitas.findings import Finding
from fidelitas.rights import Link, SubjectRights

__all__ = ["KeptChanges"]


class _Store(Protocol):
    def get(self, keys: list[bytes], /) -> Mapping[bytes, bytes]: ...
    def put(self, kept: Mapping[bytes, bytes], rules: bytes, /) -> object: ...


class _Right(msgspec.Struct, array_like=True):
    turn: Turn
    before: int | None  # the number of a holding
    after: int | None
    causes: list[tuple[int | None, int | None]]  # links by number
    doubtful: bool


class _Changes(msgspec.Struct, array_like=True):
    held: HoldingsForm
    rights: list[_Right]
    new_findings: tuple[Finding, ...]
    gone_findings: tuple[Finding, ...]
    accounts: tuple[AccountChange, ...]
    less_read: tuple[Gap, ...]


class KeptChanges:
    """Comparisons that are kept, by the conclusions that were compared; those of subjects that other hosts lead into are not."""

    def __init__(self, store: _Store | None) -> None:
        self._store = store

    def recall(self, pairs: Sequence[tuple[SubjectRights, SubjectRights]]) -> dict[int, SubjectChanges]:
        """Return what is kept, by the number of the pair."""
        keys = {number: key for number, (one, another) in enumerate(pairs) if (key := _key(one, another)) is not None}
        found = self._store.get(list(keys.values())) if self._store is not None and keys else {}
        read = {number: _decoded(found[key]) for number, key in keys.items() if key in found}
        return {number: changes for number, changes in read.items() if changes is not None}

    def note(self, pairs: Sequence[tuple[SubjectRights, SubjectRights]], found: Mapping[int, SubjectChanges]) -> None:
        """Keep what was found, but where comparing failed."""
        new: dict[bytes, bytes] = {}
        for number, changes in found.items():
            key = _key(*pairs[number])
            content = None if key is None or any(gap.fatal for gap in changes.less_read) else _encoded(changes)
            if key is not None and content is not None:
                new[key] = content
        if self._store is not None and new:
            self._store.put(new, rules_digest())


def _key(one: SubjectRights, another: SubjectRights) -> bytes | None:
    marks = one.conclusion_mark, another.conclusion_mark
    parts = [mark[0] for mark in marks if isinstance(mark, tuple) and isinstance(mark[0], bytes) and not mark[1]]
    named = b"changes" + one.subject.encode("utf-8", "surrogateescape") + b"\0"
    return blake2b(named + b"".join(parts), digest_size=24).digest() if len(parts) == len(marks) else None


def _encoded(changes: SubjectChanges) -> bytes | None:
    held = [holding for change in changes.rights for holding in (change.before, change.after) if holding is not None]
    numbers = {id(holding): number for number, holding in enumerate(held)}
    table = LinkTable()
    rows = [holding_form(holding, table) for holding in held]
    rights = [
        _Right(
            change.turn,
            numbers[id(change.before)] if change.before is not None else None,
            numbers[id(change.after)] if change.after is not None else None,
            [(_number(cause.before, table), _number(cause.after, table)) for cause in change.causes],
            change.doubtful,
        )
        for change in changes.rights
    ]
    rest = (tuple(changes.new_findings), tuple(changes.gone_findings), tuple(changes.accounts), tuple(changes.less_read))
    return encode(_Changes(HoldingsForm(table.form(), rows), rights, *rest))


def _number(link: Link | None, table: LinkTable) -> int | None:
    return None if link is None else table.number(link)


def _decoded(content: bytes) -> SubjectChanges | None:
    try:
        read = decode(content, _Changes)
        links, held = holdings_in(read.held)
        rights = [
            RightChange(
                turn=one.turn,
                before=held[one.before] if one.before is not None else None,
                after=held[one.after] if one.after is not None else None,
                causes=tuple(Cause(*(None if number is None else links[number] for number in pair)) for pair in one.causes),
                doubtful=one.doubtful,
            )
            for one in read.rights
        ]
    except (ConclusionError, IndexError):
        return None
    return SubjectChanges(rights, list(read.new_findings), list(read.gone_findings), list(read.accounts), list(read.less_read))
