"""An evidence pack checked on another machine: are the files those of the manifest, do decisions belong to items, is each cited line there?

A pack can come from an attacker: names, sizes and kinds of its members are checked before anything is read.
"""

import gzip
import hashlib
import json
import re
import tarfile
import zlib
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct

from fidelitas.errors import ReadError
from fidelitas.reviews.decisions import Decision
from fidelitas.reviews.items import Item
from fidelitas.reviews.pack import MANIFEST, SIGNATURE, line_of

__all__ = ["Pack", "faults_of", "read_pack"]

_NAME = re.compile(r"(?:[a-z]{1,20}\.json(?:\.sig)?|evidence/[0-9]{5,9})\Z")
_LARGEST, _MOST, _ALL = 256 * 2**20, 100_000, 2 * 2**30


class Pack(Struct, frozen=True):
    """The files of a pack by name; `head` says which review it is of."""

    files: Mapping[str, bytes]
    head: Mapping[str, Any]
    citations: int

    @property
    def manifest(self) -> bytes:
        """What is signed."""
        return self.files[MANIFEST]

    @property
    def signature(self) -> bytes | None:
        """The signature, where there is one."""
        return self.files.get(SIGNATURE)


def read_pack(path: Path) -> Pack:
    """Return the files of a pack; raises `ReadError` where it is not one, or cannot be read to its end."""
    try:
        files = dict(_members(path))
        head = json.loads(files["review.json"])
        citations = json.loads(files["citations.json"])
        if not isinstance(head, dict) or not isinstance(citations, list) or head.get("format") != 1:
            raise ReadError(f'"{path}" is not an evidence pack of format 1')
    except KeyError as error:
        raise ReadError(f'"{path}" is not an evidence pack: it has no {error.args[0]}') from error
    except (OSError, tarfile.TarError, zlib.error, EOFError, ValueError, RecursionError) as error:
        raise ReadError(f'could not read evidence pack "{path}": {" ".join(str(error).split())}') from error
    return Pack(files, head, len(citations))


def _members(path: Path) -> Iterator[tuple[str, bytes]]:
    total, met = 0, set()
    with gzip.open(path) as packed, tarfile.open(fileobj=packed, mode="r|") as archive:
        for count, member in enumerate(archive):
            if not member.isreg() or not _NAME.match(member.name) or member.name in met or count >= _MOST:
                raise ReadError(f'"{path}" is not an evidence pack: it has a member that none has', hint="It may be meant to do harm.")
            met.add(member.name)
            total += member.size
            if member.size > _LARGEST or total > _ALL:
                raise ReadError(f'"{path}" is too large to be read')
            stream = archive.extractfile(member)
            yield member.name, stream.read() if stream is not None else b""


def faults_of(pack: Pack) -> list[str]:
    """Return what is wrong with a pack, in words: nothing where all files are as the manifest says and every citation is true."""
    faults = list(_changed(pack))
    if not faults:
        try:
            faults = [*_contradictions(pack), *_wrong_citations(pack)]
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            faults = [f"a file of it is not as the format says: {' '.join(str(error).split())[:200]}"]
    return faults


def _changed(pack: Pack) -> Iterator[str]:
    try:
        listed = json.loads(pack.manifest)["files"]
        stated = {str(name): str(one["sha256"]) for name, one in listed.items()}
    except (KeyError, TypeError, ValueError, AttributeError):
        yield "its manifest cannot be read"
        return
    present = set(pack.files) - {MANIFEST, SIGNATURE}
    yield from (f"{name} is missing" for name in sorted(set(stated) - present))
    yield from (f"{name} is not in the manifest" for name in sorted(present - set(stated)))
    for name in sorted(present & set(stated)):
        if hashlib.sha256(pack.files[name]).hexdigest() != stated[name]:
            yield f"{name} is not what the manifest says: it was changed"


def _contradictions(pack: Pack) -> Iterator[str]:
    items = msgspec.json.decode(pack.files["holdings.json"], type=list[Item])
    decisions = msgspec.json.decode(pack.files["decisions.json"], type=list[Decision])
    numbers = {item.number for item in items}
    if len(items) != pack.head.get("items"):
        yield f"review.json counts {pack.head.get('items')} items, and there are {len(items)}"
    yield from (f"a decision is about item {one.item}, which is not there" for one in decisions if one.item not in numbers)
    decided = {one.item for one in decisions} | {item.number for item in items if item.carried is not None and not item.carried.reopened}
    yield from (f"item {number} has no decision" for number in sorted(numbers - decided))
    cited = {(one["item"], one["subject"], one["path"], one["line"]) for one in json.loads(pack.files["citations.json"])}
    for item in items:
        for holding in item.holdings:
            for link in (link for route in holding.routes for link in route):
                if (item.number, link.subject, link.path, link.line) not in cited:
                    yield f"item {item.number} cites {link.subject}:{link.path}:{link.line}, which is not among the citations"


def _wrong_citations(pack: Pack) -> Iterator[str]:
    index = {(one["subject"], one["path"]): one["file"] for one in json.loads(pack.files["evidence.json"])}
    for one in json.loads(pack.files["citations.json"]):
        where = f"{one['subject']}:{one['path']}" + (f":{one['line']}" if one["line"] is not None else "")
        name = one["file"]
        if name is None or name not in pack.files:
            yield f"item {one['item']}: the evidence of {where} is missing"
        elif one["text"] is not None and (
            index.get((one["subject"], one["path"])) != name or line_of(pack.files[name], one["line"]) != one["text"]
        ):
            yield f"item {one['item']}: {where} is not the line that is cited"
        elif one["text"] is None and index.get((one["subject"], None)) != name and index.get((one["subject"], one["path"])) != name:
            yield f"item {one['item']}: {where} is not in the evidence that is cited"
