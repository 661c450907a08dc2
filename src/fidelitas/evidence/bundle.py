"""A bundle in memory: the manifest and the copies, checked against each other.

Knows how the two belong together; not what the copies mean.  A bundle that is damaged in part is used in part, and says so.
"""

import hashlib
import io
import tarfile
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from typing import IO

from fidelitas.errors import EvidenceError
from fidelitas.evidence.archive import LIMITS, Limits, Member, open_archive
from fidelitas.evidence.manifest import Item, Listing, Manifest, MissingItem, parse_manifest, render_manifest

__all__ = ["Bundle", "make_bundle", "read_bundle"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Bundle:
    """The evidence of one subject.

    `files` maps a path of the subject to its copy, `listings` a name to what a tool printed; `gaps` also holds what was found wrong on
    reading.
    """

    manifest: Manifest
    files: Mapping[str, bytes]
    listings: Mapping[str, bytes]
    gaps: tuple[MissingItem, ...]
    name: str = ""  # given by the auditor, in place of what the host calls itself

    @property
    def subject(self) -> str:
        """The name of the subject; empty where the evidence does not tell one."""
        return self.name or self.manifest.subject

    @property
    def host_name(self) -> str:
        """What the host calls itself."""
        return self.manifest.subject

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

    def named(self, name: str) -> "Bundle":
        """Return the same evidence under another name for its subject."""
        return replace(self, name=name)


def read_bundle(stream: IO[bytes], limits: Limits = LIMITS) -> Bundle:
    """Return the bundle that a stream holds, plain or packed with gzip or zstd."""
    members = open_archive(stream, limits)
    first = next(members, None)
    if first is None or first.name != "manifest.json" or first.refused:
        raise EvidenceError("the archive does not begin with manifest.json: it is no evidence bundle")
    manifest = parse_manifest(first.content)
    wanted: dict[str, Item | Listing] = {item.member: item for item in manifest.items if item.member}
    wanted |= {listing.member: listing for listing in manifest.listings}
    found: dict[str, bytes] = {}
    gaps = list(manifest.gaps)
    for member in members:
        fault = _fault(member, wanted)
        if fault:
            gaps.append(MissingItem(path=_name(wanted[member.name]) if member.name in wanted else member.name or "(archive)", reason=fault))
        else:
            found[member.name] = member.content
    told = {gap.path for gap in gaps}
    lost = [_name(one) for member, one in wanted.items() if member not in found and _name(one) not in told]
    gaps += [MissingItem(path=name, reason="is not in the archive") for name in lost]
    contents = [(wanted[member], content) for member, content in found.items()]
    return Bundle(
        manifest=manifest,
        files={one.path: content for one, content in contents if isinstance(one, Item)},
        listings={one.name: content for one, content in contents if isinstance(one, Listing)},
        gaps=tuple(gaps),
    )


def _name(one: Item | Listing) -> str:
    return one.path if isinstance(one, Item) else f"listing {one.name}"


def _fault(member: Member, wanted: Mapping[str, Item | Listing]) -> str:
    """Return why a member is not used, or nothing."""
    if member.refused:
        return member.refused
    item = wanted.get(member.name)
    if item is None:
        return "the manifest does not list it"
    if item.sha256 is not None and item.sha256 != hashlib.sha256(member.content).hexdigest():
        return "its content differs from the digest in the manifest"
    return ""


def make_bundle(manifest: Manifest, files: Mapping[str, bytes], listings: Mapping[str, bytes] | None = None) -> bytes:
    """Return a plain tar archive of a manifest, sealed with the digests of files and listings, and those.  Equal input, equal bytes."""
    listings = listings or {}
    items = tuple(_sealed(item, files) for item in manifest.items)
    listed = tuple(replace(one, sha256=hashlib.sha256(listings[one.name]).hexdigest()) for one in manifest.listings)
    members = [("manifest.json", render_manifest(replace(manifest, items=items, listings=listed)))]
    members += [(item.member, files[item.path]) for item in items if item.member]
    members += [(one.member, listings[one.name]) for one in listed]
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT, errors="surrogateescape") as archive:
        for name, content in members:
            entry = tarfile.TarInfo(name)
            entry.size = len(content)
            entry.mtime = int(manifest.taken.timestamp())
            archive.addfile(entry, io.BytesIO(content))
    return out.getvalue()


def _sealed(item: Item, files: Mapping[str, bytes]) -> Item:
    if item.path not in files:
        return item
    return replace(item, member=f"files{item.path}", sha256=hashlib.sha256(files[item.path]).hexdigest())
