"""The manifest of a bundle: what was collected, in which state, and what could not be had.

Knows the JSON form and nothing of the archive around it.  See ``docs/schemas/manifest.schema.json``.
"""

import json
import re
from collections.abc import Mapping
from datetime import UTC, datetime
from ipaddress import ip_interface
from typing import Any, TypeVar

import msgspec
from msgspec import Struct
from msgspec.structs import asdict

from fidelitas.errors import EvidenceError
from fidelitas.text import clipped, decode, escape_control

__all__ = [
    "FORMAT",
    "VERSION",
    "CopiedLog",
    "Item",
    "Listing",
    "Manifest",
    "MissingItem",
    "is_valid_subject_name",
    "parse_manifest",
    "render_manifest",
]

_T = TypeVar("_T")

FORMAT = "fidelitas-evidence"
VERSION = 1
_KINDS = ("file", "folder", "other", "absent")
# A subject names rows, files and folders; what a host calls itself is its own free text, and hostile hosts lie.
_SUBJECT_LENGTH = 253  # RFC 1035, section 2.3.4
# uid_t is 32 bits, off_t 63; datetime ends with the year 9999, and a day is left for time zones.
_IDS, _SIZES, _TIMES = range(2**32), range(2**63), range(-(2**31), 253_402_214_400)
# When evidence can have been taken: a clock that was never set says 1970.
_YEARS = range(1970, 2200)
_MODE = re.compile(r"[0-7]{1,5}\Z")
_DIGEST = re.compile(r"[0-9a-f]{64}\Z")
_HEXADECIMAL = re.compile(r"[0-9a-f]+\Z")


class Item(msgspec.Struct, frozen=True, kw_only=True, gc=False):  # a host has thousands
    """One path of the subject: what stands there and, where `member` is set, under which name the archive holds a copy."""

    path: str
    kind: str
    mode: int | None = None
    uid: int | None = None
    gid: int | None = None
    size: int | None = None
    mtime: int | None = None
    real: str | None = None  # where symbolic links led
    member: str | None = None
    sha256: str | None = None  # of the copy, which for account files is the redacted text
    digests: tuple[tuple[str, str], ...] = ()  # of the file itself: algorithm and hexadecimal value, where the policy asks for them


class Listing(Struct, frozen=True, kw_only=True):
    """What a tool of the subject printed about it, under which name the archive holds it."""

    name: str
    member: str
    tool: str
    sha256: str | None = None


class MissingItem(Struct, frozen=True, kw_only=True):
    """A path that was wanted and could not be had."""

    path: str
    reason: str
    weakens: str = ""  # what is not known without it


class CopiedLog(Struct, frozen=True, kw_only=True):
    """A log of the subject: which lines of it are in the archive, and how the first and the last of all begin, with their times."""

    path: str
    member: str
    lines: int = 0
    kept: int = 0
    begins: str | None = None
    ends: str | None = None
    sha256: str | None = None


class Manifest(Struct, frozen=True, kw_only=True):
    """The head of a bundle."""

    subject: str
    platform: str
    taken: datetime
    kernel: str
    live: bool
    probe: int
    uid: int
    items: tuple[Item, ...]
    gaps: tuple[MissingItem, ...]
    listings: tuple[Listing, ...] = ()
    logs: tuple[CopiedLog, ...] = ()
    zone: str | None = None  # of the host's clock, by its name
    machine: str | None = None  # digest of its machine-id, where it has one
    host_keys: tuple[str, ...] = ()  # digests of its public host keys
    addresses: tuple[str, ...] | None = None  # "ADDRESS/LENGTH" of the interfaces that are up; None: not known


def parse_manifest(content: bytes) -> Manifest:
    """Return the manifest that `content` states; an `EvidenceError` names the first thing that is not as documented.

    Paths on Unix are bytes: those that are not UTF-8 come through as lone surrogates (PEP 383).
    """
    stated = _usual(content)
    if stated is None:
        try:
            stated = json.loads(decode(content))
        except (ValueError, RecursionError) as error:
            raise EvidenceError(f"manifest.json is not JSON: {error}") from error
    if not isinstance(stated, dict) or stated.get("format") != FORMAT:
        raise EvidenceError(f'manifest.json does not say "format": "{FORMAT}"')
    if stated.get("version") != VERSION:
        raise EvidenceError(f"the bundle has format version {_shown(stated.get('version'))}, this program reads {VERSION}")
    return Manifest(
        subject=_subject(stated),
        platform=_of(stated, "platform", str),
        taken=_taken(stated),
        kernel=_of(stated, "kernel", str),
        live=_of(stated, "live", bool),
        probe=_of(stated, "probe", int),
        uid=_of(stated, "uid", int),
        items=tuple([_item(entry if entry.__class__ is _StatedItem else _typed(entry)) for entry in _of(stated, "items", list)]),
        listings=tuple(_listing(entry) for entry in (_of(stated, "listings", list) if "listings" in stated else ())),
        logs=tuple(_log(entry) for entry in (_of(stated, "logs", list) if "logs" in stated else ())),
        zone=_optional(stated, "zone", str) or None,
        machine=_digest_of(stated.get("machine")),
        host_keys=tuple(filter(None, map(_digest_of, _of(stated, "host_keys", list) if "host_keys" in stated else ()))),
        addresses=_addresses(stated),
        gaps=tuple(_gap(entry) for entry in _of(stated, "gaps", list)),
    )


class _StatedItem(msgspec.Struct, gc=False):
    """An item whose parts are of the types that they must have; what they say is not looked at yet."""

    path: str
    kind: str
    mode: str | None = None
    uid: int | None = None
    gid: int | None = None
    size: int | None = None
    mtime: int | None = None
    real: str | None = None
    member: str | None = None
    sha256: str | None = None
    digests: dict[str, str] | None = None


_HEAD = (
    "format", "version", "platform", "subject", "kernel", "live", "probe", "taken", "uid", "machine", "host_keys", "addresses", "listings",
    "zone", "logs", "gaps",
)  # fmt: skip
_Usual = msgspec.defstruct("_Usual", [("items", list[_StatedItem]), *((name, Any, msgspec.UNSET) for name in _HEAD)])
_decoded = msgspec.json.Decoder(_Usual).decode


def _usual(content: bytes) -> dict[str, Any] | None:
    """Return what a manifest states, if it is JSON and each item of the types that it must have, as it nearly always is.

    Of any other the first thing that is wrong is to be named: that is read item by item.
    """
    try:
        read = _decoded(content)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError):
        return None
    return {name: value for name in ("items", *_HEAD) if (value := getattr(read, name)) is not msgspec.UNSET}


def _of(stated: Any, name: str, kind: type[_T]) -> _T:
    value = stated.get(name) if isinstance(stated, dict) else None
    if not isinstance(value, kind) or (kind is int and isinstance(value, bool)):
        raise EvidenceError(f'manifest.json: expected "{name}" to be of type {kind.__name__}, found {_shown(value)}')
    return value


def _gap(entry: Any) -> MissingItem:
    return MissingItem(path=_of(entry, "path", str), reason=_of(entry, "reason", str), weakens=_optional(entry, "weakens", str) or "")


def _within(value: int | None, bounds: range) -> int | None:
    """Return a number of an item; ``None`` where it is beyond what the system can mean: any user can set a file's time to anything."""
    return value if value is not None and bounds.start <= value < bounds.stop else None


def _addresses(stated: Mapping[str, Any]) -> tuple[str, ...] | None:
    if stated.get("addresses") is None:
        return None
    try:
        return tuple(str(ip_interface(text)) for text in _of(stated, "addresses", list) if isinstance(text, str))
    except ValueError as error:
        raise EvidenceError(f"manifest.json: {error}") from error


def _optional(entry: Mapping[str, Any], name: str, kind: type[_T]) -> _T | None:
    return None if entry.get(name) is None else _of(entry, name, kind)


def _shown(value: object) -> str:
    return clipped(escape_control(repr(value)), 60)


def is_valid_subject_name(name: str) -> bool:
    """Return whether a name can stand for a subject in rows, citations and file names."""
    return bool(name) and len(name) <= _SUBJECT_LENGTH and name.isprintable() and "/" not in name and not name.startswith((".", "-"))


def _subject(stated: Mapping[str, Any]) -> str:
    """Return what the host calls itself; nothing where it has no usable name, since what is in the bundle is good all the same."""
    name = _of(stated, "subject", str)
    return name if is_valid_subject_name(name) else ""


def _taken(stated: Mapping[str, Any]) -> datetime:
    text = _of(stated, "taken", str)
    try:
        taken = datetime.fromisoformat(text)
    except ValueError as error:
        raise EvidenceError(f'manifest.json: "taken" is not a time of ISO 8601: {_shown(text)}') from error
    if taken.year not in _YEARS:
        raise EvidenceError(f'manifest.json: "taken" is not between the years {_YEARS.start} and {_YEARS.stop - 1}: {_shown(text)}')
    return taken.astimezone(UTC) if taken.tzinfo else taken.replace(tzinfo=UTC)


def _typed(entry: Any) -> _StatedItem:
    kind, mode, digest = _of(entry, "kind", str), entry.get("mode"), entry.get("sha256")
    if mode is not None and not isinstance(mode, str):
        raise EvidenceError(f"manifest.json: a mode must be an octal number in quotes, found {_shown(mode)}")
    _check_digest(digest)
    digests = _optional(entry, "digests", dict)
    for algorithm, value in (digests or {}).items():
        if not isinstance(value, str):
            raise _not_hexadecimal(algorithm, value)
    return _StatedItem(
        path=_of(entry, "path", str),
        kind=kind,
        mode=mode,
        uid=_optional(entry, "uid", int),
        gid=_optional(entry, "gid", int),
        size=_optional(entry, "size", int),
        mtime=_optional(entry, "mtime", int),
        real=_optional(entry, "real", str),
        member=_optional(entry, "member", str),
        sha256=digest,
        digests=digests,
    )


def _item(stated: _StatedItem) -> Item:
    kind, mode = stated.kind, stated.mode
    if kind not in _KINDS:
        raise EvidenceError(f"manifest.json: unknown kind of item {_shown(kind)}")
    if mode is not None and not _MODE.match(mode):
        raise EvidenceError(f"manifest.json: a mode must be an octal number in quotes, found {_shown(mode)}")
    _check_digest(stated.sha256)
    return Item(
        path=stated.path,
        kind=kind,
        mode=None if mode is None else int(mode, 8),
        uid=_within(stated.uid, _IDS),
        gid=_within(stated.gid, _IDS),
        size=_within(stated.size, _SIZES),
        mtime=_within(stated.mtime, _TIMES),
        real=stated.real,
        member=stated.member,
        sha256=stated.sha256,
        digests=() if not stated.digests else _digests(stated.digests),
    )


def _digest_of(stated: object) -> str | None:
    _check_digest(stated)
    return stated if isinstance(stated, str) else None


def _check_digest(digest: object) -> None:
    if digest is not None and not (isinstance(digest, str) and _DIGEST.match(digest)):
        raise EvidenceError(f"manifest.json: a digest must be 64 hexadecimal digits, found {_shown(digest)}")


def _digests(stated: Mapping[str, str]) -> tuple[tuple[str, str], ...]:
    for algorithm, value in stated.items():
        if not _HEXADECIMAL.match(value):
            raise _not_hexadecimal(algorithm, value)
    return tuple(stated.items())


def _not_hexadecimal(algorithm: object, value: object) -> EvidenceError:
    return EvidenceError(f"manifest.json: a digest must be in hexadecimal digits, found {_shown(value)} for {_shown(algorithm)}")


def _listing(entry: Any) -> Listing:
    digest = entry.get("sha256") if isinstance(entry, dict) else None
    _check_digest(digest)
    return Listing(name=_of(entry, "name", str), member=_of(entry, "member", str), tool=_of(entry, "tool", str), sha256=digest)


def _log(entry: Any) -> CopiedLog:
    digest = entry.get("sha256") if isinstance(entry, dict) else None
    _check_digest(digest)
    return CopiedLog(
        path=_of(entry, "path", str),
        member=_of(entry, "member", str),
        lines=_of(entry, "lines", int),
        kept=_of(entry, "kept", int),
        begins=_of(entry, "begins", str) or None,
        ends=_of(entry, "ends", str) or None,
        sha256=digest,
    )


def render_manifest(manifest: Manifest) -> bytes:
    """Return the JSON form of a manifest, one item a line, so that it can be read and compared by eye."""
    head = {
        "format": FORMAT,
        "version": VERSION,
        "platform": manifest.platform,
        "subject": manifest.subject,
        "kernel": manifest.kernel,
        "live": manifest.live,
        "probe": manifest.probe,
        "taken": manifest.taken.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ"),
        "uid": manifest.uid,
        "machine": manifest.machine,
        "host_keys": list(manifest.host_keys),
        "addresses": None if manifest.addresses is None else list(manifest.addresses),
    }
    items = ",\n".join(f"  {json.dumps(_stated(item))}" for item in manifest.items)
    listings = ",\n".join(f"  {json.dumps(_stated_listing(listing))}" for listing in manifest.listings)
    logs = ",\n".join(f"  {json.dumps(_stated_log(log))}" for log in manifest.logs)
    gaps = ",\n".join(f"  {json.dumps(_stated_gap(gap))}" for gap in manifest.gaps)
    told = (
        f' "items": [\n{items}\n ],\n "listings": [\n{listings}\n ],\n "zone": {json.dumps(manifest.zone or "")}, "logs": [\n{logs}\n ],\n'
    )
    return f'{json.dumps(head)[:-1]},\n{told} "gaps": [\n{gaps}\n ]}}\n'.encode()


def _stated_gap(gap: MissingItem) -> dict[str, str]:
    return {"path": gap.path, "reason": gap.reason, **({"weakens": gap.weakens} if gap.weakens else {})}


def _stated_log(log: CopiedLog) -> dict[str, Any]:
    return {**{name: value for name, value in asdict(log).items() if value is not None}, "begins": log.begins or "", "ends": log.ends or ""}


def _stated_listing(listing: Listing) -> dict[str, str]:
    stated = {"name": listing.name, "member": listing.member, "tool": listing.tool, "sha256": listing.sha256}
    return {name: value for name, value in stated.items() if value is not None}


def _stated(item: Item) -> dict[str, Any]:
    fields = {
        "path": item.path,
        "kind": item.kind,
        "mode": None if item.mode is None else f"{item.mode:o}",
        "uid": item.uid,
        "gid": item.gid,
        "size": item.size,
        "mtime": item.mtime,
        "real": item.real,
        "member": item.member,
        "sha256": item.sha256,
        "digests": dict(item.digests) or None,
    }
    return {name: value for name, value in fields.items() if value is not None}
