"""Pieces of evidence in the tables: found by digest, unpacked, added.

Every piece is held against its digest when it is read: one that is damaged costs itself, and what is stated against it.
"""

import struct
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

import zstandard
from msgspec import Struct
from sqlalchemy import ColumnElement, Connection, Row, exc, select

from fidelitas.ledger.connection import batches, insert_new
from fidelitas.ledger.packing import LARGEST_BASE, Form, digest_of, joined_ids, pack, pack_against, parts_of, split_ids, unpack
from fidelitas.ledger.tables import evidence, pieces

__all__ = ["Packed", "PieceReader", "add_pieces", "packed_pieces"]

_CHANGED = "has changed"
_MISSING = "is missing"
_PIECE = (pieces.c.id, pieces.c.digest, pieces.c.form, pieces.c.base, pieces.c.packed)


class PieceReader:
    """Pieces by their digests or numbers; `faults` says, by digest, what is wrong with those that could not be had."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection
        self._bases: dict[int, bytes] = {}
        self.faults: dict[bytes, str] = {}

    def by_digest(self, digests: Iterable[bytes]) -> dict[bytes, bytes]:
        """Return the contents of digests, but of those that are missing or damaged."""
        wanted = list(dict.fromkeys(digests))
        found = {}
        for row in self._rows(pieces.c.digest, wanted):
            content = self._content(row)
            if content is not None:
                found[bytes(row.digest)] = content
        for digest in wanted:
            if digest not in found:
                self.faults.setdefault(digest, _MISSING)
        return found

    def record(self, evidence_number: int) -> bytes | None:
        """Return the record of a piece of evidence; ``None`` where it is missing or damaged."""
        of_evidence = select(evidence.c.record).where(evidence.c.id == evidence_number)
        number = self._connection.execute(of_evidence).scalar()
        return None if number is None else self.by_number(number)

    def by_number(self, number: int) -> bytes | None:
        """Return the content of a piece; ``None`` where it is missing or damaged."""
        if number not in self._bases:
            row = next(self._rows(pieces.c.id, [number]), None)
            content = None if row is None else self._content(row)
            if content is None:
                return None
            if len(content) > LARGEST_BASE:
                return content
            self._bases[number] = content
        return self._bases[number]

    def _rows(self, column: ColumnElement[Any], wanted: Sequence[object]) -> Iterator[Row[*tuple[Any, ...]]]:
        for some in batches(wanted):
            try:
                rows = self._connection.execute(select(*_PIECE).where(column.in_(some))).all()
            except exc.DatabaseError:
                if len(some) == 1:
                    continue
                yield from (row for one in some for row in self._rows(column, [one]))  # a damaged page costs what is in it
            else:
                yield from rows

    def _content(self, row: Row[*tuple[Any, ...]]) -> bytes | None:
        digest = bytes(row.digest)
        content = self._unchecked(row)
        if content is None or digest_of(content) != digest:
            self.faults[digest] = _CHANGED
            return None
        return content

    def _unchecked(self, row: Row[*tuple[Any, ...]]) -> bytes | None:
        try:
            return self._unpacked(row)
        except (zstandard.ZstdError, struct.error, MemoryError, RecursionError):
            return None

    def _unpacked(self, row: Row[*tuple[Any, ...]]) -> bytes | None:
        if row.form == Form.AGAINST:
            base = self.by_number(row.base) if row.base is not None and row.base < row.id else None
            return None if base is None else unpack(row.packed, base)
        content = unpack(row.packed)
        if row.form != Form.PARTS:
            return content
        numbers = split_ids(content)
        if any(number >= row.id for number in numbers):  # a piece comes after its parts
            return None
        # The digest of the whole is held against what its parts are together.
        parts = {other.id: self._unchecked(other) for other in self._rows(pieces.c.id, list(dict.fromkeys(numbers)))}
        found = [parts.get(number) for number in numbers]
        return None if any(part is None for part in found) else b"".join(part for part in found if part is not None)


class Packed(Struct, frozen=True):
    """A piece that is ready to be added: `parts` are the digests of those that it is made of."""

    digest: bytes
    size: int
    form: Form
    packed: bytes
    base: int | None = None
    parts: tuple[bytes, ...] = ()


def packed_pieces(connection: Connection, contents: Mapping[bytes, bytes], bases: Mapping[bytes, bytes]) -> list[Packed]:
    """Return what is to be added for some contents: those that are not there yet, parts before what is made of them.

    `bases` names, by digest, the piece that a content may be packed against: what stood there before.
    """
    known = _numbers(connection, contents)
    new = {digest: content for digest, content in contents.items() if digest not in known}
    roots = _roots(connection, [bases[digest] for digest in new if digest in bases])
    reader = PieceReader(connection)
    found: dict[bytes, Packed] = {}
    for digest, content in sorted(new.items()):
        parts = parts_of(content)
        if len(parts) == 1:
            root = roots.get(bases.get(digest, b""))
            found[digest] = _packed(digest, content, root, reader)
            continue
        digests = tuple(map(digest_of, parts))
        there = _numbers(connection, digests)
        found |= {one: _packed(one, part, None, reader) for one, part in zip(digests, parts, strict=True) if one not in there}
        found[digest] = Packed(digest, len(content), Form.PARTS, b"", parts=digests)
    return sorted(found.values(), key=lambda one: bool(one.parts))


def add_pieces(connection: Connection, some: Iterable[Packed]) -> None:
    """Add pieces, but for those that have come meanwhile."""
    some = list(some)
    insert_new(connection, pieces, [_row(one, one.packed) for one in some if not one.parts])
    numbers = _numbers(connection, [part for one in some for part in one.parts])
    insert_new(connection, pieces, [_row(one, pack(joined_ids([numbers[part] for part in one.parts]))) for one in some if one.parts])


def _row(one: Packed, packed: bytes) -> dict[str, object]:
    return {"digest": one.digest, "size": one.size, "form": int(one.form), "base": one.base, "packed": packed}


def _packed(digest: bytes, content: bytes, root: int | None, reader: PieceReader) -> Packed:
    whole = pack(content)
    base = reader.by_number(root) if root is not None else None
    against = pack_against(content, base, len(whole)) if base else None
    if against is not None:
        return Packed(digest, len(content), Form.AGAINST, against, base=root)
    return Packed(digest, len(content), Form.WHOLE, whole)


def _numbers(connection: Connection, digests: Iterable[bytes]) -> dict[bytes, int]:
    """Return the numbers of the pieces that are there, by digest."""
    found: dict[bytes, int] = {}
    for some in batches(digests):
        rows = connection.execute(select(pieces.c.digest, pieces.c.id).where(pieces.c.digest.in_(some)))
        found.update({bytes(digest): number for digest, number in rows})
    return found


def _roots(connection: Connection, digests: Iterable[bytes]) -> dict[bytes, int]:
    """Return the pieces that others may be packed against, by digest: of one that is packed against another, that other."""
    columns = (pieces.c.digest, pieces.c.id, pieces.c.base, pieces.c.form)
    found: dict[bytes, int] = {}
    for some in batches(digests):
        for digest, number, base, form in connection.execute(select(*columns).where(pieces.c.digest.in_(some))):
            if form != Form.PARTS:
                found[bytes(digest)] = number if base is None else base
    return found
