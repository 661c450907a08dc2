"""A bundle in memory: the manifest and the copies, checked against each other.

Knows how the two belong together; not what the copies mean.  A bundle that is damaged in part is used in part, and says so.
"""

import hashlib
import io
import tarfile
from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime, tzinfo
from typing import IO
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import msgspec
from msgspec import Struct, field
from msgspec.structs import replace

from fidelitas.equality import equal_apart_from
from fidelitas.errors import EvidenceError
from fidelitas.evidence.archive import LIMITS, Limits, Member, open_archive
from fidelitas.evidence.identity import Identity
from fidelitas.evidence.logs import LogCopy, age_of, family_of, log_copy
from fidelitas.evidence.manifest import CopiedLog, Item, Listing, Manifest, MissingItem, parse_manifest, render_manifest

_Copied = Item | Listing | CopiedLog

__all__ = ["UNREAD", "Bundle", "make_bundle", "make_rows_bundle", "read_bundle", "unread_bundle"]

# The path of the gap that stands for evidence of which nothing could be read.
UNREAD = "the evidence"


@equal_apart_from("came")
class Bundle(Struct, frozen=True, kw_only=True):
    """The evidence of one subject.

    `files` maps a path of the subject to its copy, `listings` a name to what a tool printed; `gaps` also holds what was found wrong on
    reading.
    """

    manifest: Manifest
    files: Mapping[str, bytes]
    listings: Mapping[str, bytes]
    gaps: tuple[MissingItem, ...]
    copies: Mapping[str, bytes] = field(default_factory=dict)  # of logs, by path, as they are packed
    name: str | None = None  # given by the auditor, in place of what the host calls itself
    came: tuple[Manifest, bytes] | None = None  # a manifest, and the bytes that it was read from

    @property
    def source(self) -> bytes:
        """The manifest as it came, with what this version does not know; of one that was made or changed here as it would be written."""
        return self.came[1] if self.came is not None and self.came[0] is self.manifest else render_manifest(self.manifest)

    @property
    def subject(self) -> str:
        """The name of the subject; empty where the evidence does not tell one."""
        return self.name or self.manifest.subject

    @property
    def identity(self) -> Identity:
        """What tells the machine from another of the same name."""
        return Identity(self.manifest.machine, frozenset(self.manifest.host_keys))

    @property
    def host_name(self) -> str:
        """What the host calls itself."""
        return self.manifest.subject

    @property
    def platform(self) -> str:
        """What kind of subject it is of: a Linux host, a database server."""
        return self.manifest.platform

    @property
    def taken(self) -> datetime:
        """When the evidence was taken."""
        return self.manifest.taken

    @property
    def taken_by(self) -> int:
        """The user ID that the evidence was taken as."""
        return self.manifest.uid

    @property
    def live(self) -> bool:
        """Whether it is of a running host, not of a root folder."""
        return self.manifest.live

    @property
    def addresses(self) -> tuple[str, ...] | None:
        """The addresses of its interfaces, with the length of their networks; ``None`` where they are not known."""
        return self.manifest.addresses

    @property
    def items(self) -> tuple[Item, ...]:
        """What stands at the paths that were looked at."""
        return self.manifest.items

    @property
    def zone(self) -> tzinfo:
        """The time zone of the host's clock; UTC where it is not known."""
        try:
            return ZoneInfo(self.manifest.zone) if self.manifest.zone else UTC
        except (ZoneInfoNotFoundError, ValueError, OSError):
            return UTC

    def logs(self, survey: int = 0) -> list[LogCopy]:
        """Return the logs, those of a family in the order of time, by their names where they were written at one time."""
        written = {item.path: datetime.fromtimestamp(item.mtime, UTC) for item in self.items if item.mtime is not None}
        order = sorted(self.copies, key=lambda path: (family_of(path), written.get(path, self.taken), age_of(path)))
        return [log_copy(path, self.subject, written.get(path, self.taken), self.copies[path], survey) for path in order]

    def named(self, name: str) -> "Bundle":
        """Return the same evidence under another name for its subject."""
        return replace(self, name=name)


def _head(members: Iterator[Member]) -> tuple[bytes, Manifest]:
    first = next(members, None)
    if first is None or first.name != "manifest.json" or first.refused:
        raise EvidenceError("the archive does not begin with manifest.json: it is not an evidence bundle")
    return first.content, parse_manifest(first.content)


def read_bundle(stream: IO[bytes], limits: Limits = LIMITS) -> Bundle:
    """Return the bundle that a stream holds, plain or packed with gzip or zstd."""
    members = open_archive(stream, limits)
    source, manifest = _head(members)
    wanted: dict[str, list[_Copied]] = {}  # one member may be the copy of several paths
    every: tuple[_Copied, ...] = (*manifest.items, *manifest.listings, *manifest.logs)
    for one in every:
        if one.member:
            wanted.setdefault(one.member, []).append(one)
    found: dict[str, bytes] = {}
    gaps = list(manifest.gaps)
    for member in members:
        fault = _fault(member, wanted.get(member.name, ()))
        if fault:
            names = [_name(one) for one in wanted.get(member.name, ())]
            gaps += [MissingItem(path=name, reason=fault) for name in names or [member.name or "(archive)"]]
        else:
            found[member.name] = member.content
    noted = {gap.path for gap in gaps}
    lost = [_name(one) for member, copied in wanted.items() if member not in found for one in copied if _name(one) not in noted]
    gaps += [MissingItem(path=name, reason="is not in the archive") for name in lost]
    return Bundle(
        manifest=manifest,
        files={item.path: found[item.member] for item in manifest.items if item.member in found},
        listings=_joined(manifest.listings, found),
        copies={log.path: found[log.member] for log in manifest.logs if log.member in found},
        gaps=tuple(gaps),
        came=(manifest, source),
    )


def _joined(listings: Sequence[Listing], found: Mapping[str, bytes]) -> dict[str, bytes]:
    """Return each listing by its name; one that was cut into several members as a whole."""
    parts: dict[str, list[bytes]] = {}
    for one in listings:
        if one.member in found:
            parts.setdefault(one.name, []).append(found[one.member])
    return {name: b"".join(several) for name, several in parts.items()}


def _name(one: _Copied) -> str:
    return f"listing {one.name}" if isinstance(one, Listing) else one.path


def _fault(member: Member, copied: Sequence[_Copied]) -> str:
    """Return why a member is not used, or nothing."""
    if member.refused:
        return member.refused
    if not copied:
        return "the manifest does not list it"
    digests = {one.sha256 for one in copied} - {None}
    if digests and digests != {hashlib.sha256(member.content).hexdigest()}:
        return "its content differs from the digest in the manifest"
    return ""


def make_bundle(
    manifest: Manifest,
    files: Mapping[str, bytes],
    listings: Mapping[str, bytes] | None = None,
    logs: Mapping[str, bytes] | None = None,
    largest: int = LIMITS.member_size // 2,
) -> bytes:
    """Return a plain tar archive of a manifest, sealed with the digests of its members, and those.  Equal input, equal bytes.

    A listing of more than `largest` bytes becomes several members, cut at the ends of lines.
    """
    listings, logs = listings or {}, logs or {}
    items = tuple(_sealed(item, files, number) for number, item in enumerate(manifest.items, 1))
    parts = [pair for one in manifest.listings for pair in _parts(one, listings[one.name], largest)]
    listed = tuple(one for one, _ in parts)
    copied = tuple(replace(one, sha256=hashlib.sha256(logs[one.path]).hexdigest()) for one in manifest.logs)
    members = [("manifest.json", render_manifest(replace(manifest, items=items, listings=listed, logs=copied)))]
    members += [(item.member, files[item.path]) for item in items if item.member]
    members += [(one.member, content) for one, content in parts]
    members += [(one.member, logs[one.path]) for one in copied]
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT, errors="surrogateescape") as archive:
        for name, content in members:
            entry = tarfile.TarInfo(name)
            entry.size = len(content)
            entry.mtime = int(manifest.taken.timestamp())
            archive.addfile(entry, io.BytesIO(content))
    return out.getvalue()


def _parts(one: Listing, content: bytes, largest: int) -> Iterator[tuple[Listing, bytes]]:
    begins = number = 0
    while number == 0 or begins < len(content):
        ends = len(content) if len(content) - begins <= largest else content.rfind(b"\n", begins, begins + largest) + 1
        part = content[begins : ends if ends > begins else len(content)]
        member = f"{one.member}-{number}" if number else one.member
        yield replace(one, member=member, sha256=hashlib.sha256(part).hexdigest()), part
        begins, number = begins + len(part), number + 1


def make_rows_bundle(
    subject: str, platform: str, taken: datetime, listings: Mapping[str, bytes], tool: str, gaps: Sequence[MissingItem] = ()
) -> bytes:
    """Return the archive of a subject that is no host: listings alone, what a server or directory answered."""
    manifest = Manifest(
        subject=subject.replace("/", "-"),
        platform=platform,
        taken=taken,
        kernel="",
        live=True,
        probe=3,
        uid=0,
        items=(),
        gaps=tuple(gaps),
        listings=tuple(Listing(name=name, member=f"listings/{number:04}", tool=tool) for number, name in enumerate(listings)),
    )
    return make_bundle(manifest, {}, listings)


def _sealed(item: Item, files: Mapping[str, bytes], number: int) -> Item:
    if item.path not in files:
        return item
    return msgspec.structs.replace(item, member=f"files/{number}", sha256=hashlib.sha256(files[item.path]).hexdigest())


def unread_bundle(subject: str, reason: str) -> Bundle:
    """Return what stands for evidence that could not be read at all: nothing but a gap."""
    gap = MissingItem(path=UNREAD, reason=reason, weakens="everything about it")
    taken = datetime(1970, 1, 1, tzinfo=UTC)
    manifest = Manifest(subject=subject, platform="linux", taken=taken, kernel="", live=False, probe=0, uid=0, items=(), gaps=(gap,))
    return Bundle(manifest=manifest, files={}, listings={}, gaps=(gap,), name=subject)
