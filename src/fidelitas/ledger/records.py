"""What is kept of one piece of evidence: a record, which names the contents that belong to it by their digests.

Pure.  The record holds the manifest as it came, which states nearly all digests itself; besides it what the manifest does not state: copies
without a digest, listings that came in several members, what the archive lacked, and what was found wrong on reading it.
"""

from collections.abc import Mapping
from typing import NamedTuple

import msgspec
from msgspec import Struct

from fidelitas.errors import EvidenceError
from fidelitas.evidence import Bundle, Manifest, MissingItem, parse_manifest, stated_parts
from fidelitas.ledger.packing import digest_of

__all__ = ["Kept", "Parsed", "bundle_of", "kept_of", "parse_record"]

_ABSENT = b""  # in place of a digest: the manifest names a copy that did not come
_KINDS = ("file", "listing", "log")
# What a content is of: its kind, and its path or name.
Name = tuple[str, str]


class _Record(msgspec.Struct, array_like=True):
    manifest: bytes
    besides: dict[bytes, bytes]  # "kind\0name" to a digest that the manifest does not state
    faults: list[tuple[bytes, bytes, bytes]]


class Kept(Struct, frozen=True):
    """Evidence as it is kept: the record, the digest of each content by what it is of.

    `frame` is what evidence of equal files has in common, `stated` what evidence has in common that states the same at another time.
    """

    record: bytes
    digests: Mapping[Name, bytes]
    frame: bytes
    stated: bytes


def kept_of(bundle: Bundle) -> tuple[Kept, dict[bytes, bytes]]:
    """Return how evidence is kept, and all contents by their digests."""
    named = {name: digest_of(content) for name, content in _contents(bundle).items()}
    claimed = _stated(bundle.manifest)
    besides = {name: named.get(name, _ABSENT) for name in {**named, **claimed} if named.get(name, _ABSENT) != claimed.get(name)}
    record = _Record(
        manifest=bundle.source,
        besides={_bytes("\0".join(name)): digest for name, digest in sorted(besides.items())},
        faults=[(_bytes(gap.path), _bytes(gap.reason), _bytes(gap.weakens)) for gap in bundle.gaps[len(bundle.manifest.gaps) :]],
    )
    files = sorted(digest for (kind, _), digest in named.items() if kind == "file")
    frame = digest_of(bundle.platform.encode() + b"".join(files))
    stated = digest_of(stated_parts(bundle, named))
    contents = {named[name]: content for name, content in _contents(bundle).items()}
    return Kept(msgspec.msgpack.encode(record), named, frame, stated), contents


class Parsed(NamedTuple):
    """A record of evidence: the manifest, read and as it came, the digest of each content, and what was wrong with the archive."""

    manifest: Manifest
    source: bytes
    digests: dict[Name, bytes]
    faults: tuple[MissingItem, ...]


def parse_record(record: bytes) -> Parsed:
    """Return what a record says.

    Raises `EvidenceError` for what is not a record.
    """
    try:
        read = msgspec.msgpack.decode(record, type=_Record)
    except (msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise EvidenceError(f"it is not a record of evidence: {error}") from error
    manifest = parse_manifest(read.manifest)
    besides = {_name(key): digest for key, digest in read.besides.items()}
    digests = {name: digest for name, digest in {**_stated(manifest), **besides}.items() if digest != _ABSENT}
    return Parsed(manifest, read.manifest, digests, tuple(_missing(*map(_text, fault)) for fault in read.faults))


def bundle_of(parsed: Parsed, contents: Mapping[bytes, bytes], why: Mapping[bytes, str]) -> tuple[Bundle, tuple[MissingItem, ...]]:
    """Return evidence from its record and contents, and the gaps in it of contents that are not there, which say `why`."""
    manifest, source, digests, faults = parsed
    found: dict[str, dict[str, bytes]] = {kind: {} for kind in _KINDS}
    lost = []
    for (kind, name), digest in digests.items():
        if digest in contents:
            found[kind][name] = contents[digest]
        else:
            path = f"listing {name}" if kind == "listing" else name
            lost.append(MissingItem(path=path, reason=f"the copy in the ledger {why.get(digest, 'is missing')}; survey the subject again"))
    bundle = Bundle(
        manifest=manifest,
        files=found["file"],
        listings=found["listing"],
        copies=found["log"],
        gaps=(*manifest.gaps, *faults, *lost),
        came=(manifest, source),
    )
    return bundle, tuple(lost)


def _contents(bundle: Bundle) -> dict[Name, bytes]:
    kinds = zip(_KINDS, (bundle.files, bundle.listings, bundle.copies), strict=True)
    return {(kind, name): content for kind, named in kinds for name, content in named.items()}


def _stated(manifest: Manifest) -> dict[Name, bytes]:
    """Return the digests that a manifest states, by what each is of; a listing of several members has none."""
    single: dict[str, str | None] = {}
    for one in manifest.listings:
        single[one.name] = None if one.name in single else one.sha256
    stated = [(("file", item.path), item.sha256) for item in manifest.items if item.member]
    stated += [(("listing", name), digest) for name, digest in single.items()]
    stated += [(("log", one.path), one.sha256) for one in manifest.logs]
    return {name: bytes.fromhex(digest) for name, digest in stated if digest}


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


def _text(content: bytes) -> str:
    return content.decode("utf-8", "surrogateescape")


def _name(key: bytes) -> Name:
    kind, _, name = _text(key).partition("\0")
    if kind not in _KINDS:
        raise EvidenceError("it is not a record of evidence: it names a content of an unknown kind")
    return kind, name


def _missing(path: str, reason: str, weakens: str) -> MissingItem:
    return MissingItem(path=path, reason=reason, weakens=weakens)
