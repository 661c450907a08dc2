"""The evidence pack of a review: what was held, what was decided, and the evidence that is cited, with a digest of each.

Plain files in a tar archive: JSON, and evidence as it was taken.  ``manifest.json`` has the SHA-256 of every other file and is what is
signed.  ``docs/access-review.md`` describes the format; `verification` reads it.
"""

import gzip
import hashlib
import io
import json
import tarfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import Any, Protocol

import msgspec

from fidelitas.facts import Gap
from fidelitas.reviews.decisions import Decision, counting, is_own
from fidelitas.reviews.items import CitedLink, Review
from fidelitas.text import decode

__all__ = ["MANIFEST", "SIGNATURE", "archive_of", "line_of", "pack_files"]

MANIFEST, SIGNATURE = "manifest.json", "manifest.json.sig"
_FORMAT = 1


class EvidenceLike(Protocol):
    """Evidence of a subject, as far as it can be cited: its files and listings, and its manifest."""

    @property
    def files(self) -> Mapping[str, bytes]: ...
    @property
    def listings(self) -> Mapping[str, bytes]: ...
    @property
    def source(self) -> bytes: ...
    @property
    def taken(self) -> datetime: ...


def pack_files(
    review: Review,
    decisions: Sequence[Decision],
    gaps: Iterable[Gap],
    evidence: Mapping[str, EvidenceLike],
    closed: datetime,
    closed_by: str,
) -> dict[str, bytes]:
    """Return the files of a pack by their names in it, the manifest last."""
    texts, citations = _cited(review, evidence)
    files = {
        "review.json": _json(_head(review, decisions, closed, closed_by)),
        "holdings.json": msgspec.json.format(msgspec.json.encode(review.items), indent=1),
        "decisions.json": msgspec.json.format(msgspec.json.encode(list(decisions)), indent=1),
        "gaps.json": _json(
            [{"subject": one.place.subject, "path": one.place.path, "line": one.place.line, "why": one.why} for one in gaps]
        ),
        "citations.json": _json(citations),
        **texts,
    }
    listed = {name: {"sha256": hashlib.sha256(content).hexdigest(), "bytes": len(content)} for name, content in sorted(files.items())}
    return {**files, MANIFEST: _json({"format": _FORMAT, "review": review.name, "closed": _when(closed), "files": listed})}


def archive_of(files: Mapping[str, bytes]) -> bytes:
    """Return a tar archive, packed, of files in their order; the same for the same files."""
    out = io.BytesIO()
    with (
        gzip.GzipFile(fileobj=out, mode="wb", mtime=0) as packed,
        tarfile.open(fileobj=packed, mode="w", format=tarfile.PAX_FORMAT) as archive,
    ):
        for name, content in files.items():
            head = tarfile.TarInfo(name)
            head.size, head.mode = len(content), 0o644
            archive.addfile(head, io.BytesIO(content))
    return out.getvalue()


def line_of(content: bytes, line: int) -> str | None:
    """Return a line of a text, counted from 1; nothing where it has no such line."""
    lines = decode(content).split("\n")
    return lines[line - 1] if 0 < line <= len(lines) else None


def _head(review: Review, decisions: Sequence[Decision], closed: datetime, closed_by: str) -> dict[str, Any]:
    counts = counting(review, decisions)
    kinds = [one.decision.value for one in counts.values()]
    return {
        "format": _FORMAT,
        "name": review.name,
        "survey": review.survey,
        "started": review.started,
        "started_by": review.started_by,
        "closed": _when(closed),
        "closed_by": closed_by,
        "by": review.by,
        "scope": list(review.scope),
        "tool": "fidelitas",
        "version": review.version,
        "items": len(review.items),
        "decided": {kind: kinds.count(kind) for kind in sorted(set(kinds))},
        "carried_over": sum(one.carried_from is not None for one in counts.values()),
        "about_own_rights": [number for number, one in sorted(counts.items()) if _is_own(review, one)],
    }


def _is_own(review: Review, decision: Decision) -> bool:
    item = review.item(decision.item)
    return item is not None and is_own(item, decision.reviewer)


def _cited(review: Review, evidence: Mapping[str, EvidenceLike]) -> tuple[dict[str, bytes], list[dict[str, Any]]]:
    """Return the evidence that is cited, by names in the pack, and each citation with the text of its line."""
    names: dict[tuple[str, str], str] = {}
    files: dict[str, bytes] = {}
    citations = []
    for link, number in _links(review):
        found = evidence.get(link.subject)
        if found is None:
            citations.append(_citation(link, number, None, None))
            continue
        path, content = _text_of(found, link.path)
        name = names.setdefault((link.subject, path), f"evidence/{len(names) + 1:05}")
        files[name] = content
        line = link.line if path == link.path else None
        citations.append(_citation(link, number, name, line_of(content, line) if line is not None else None))
    index = [
        {"subject": subject, "path": path or None, "file": name, "taken": _when(evidence[subject].taken)}
        for (subject, path), name in names.items()
    ]
    return {"evidence.json": _json(index), **files}, citations


def _text_of(evidence: EvidenceLike, path: str) -> tuple[str, bytes]:
    """Return the text that a place is in, by its path; the manifest, under no path, where what is cited is how a file stands there."""
    for texts in (evidence.files, evidence.listings):
        if path in texts:
            return path, texts[path]
    return "", evidence.source


def _links(review: Review) -> Iterator[tuple[CitedLink, int]]:
    met = set()
    for item in review.items:
        for holding in item.holdings:
            for route in holding.routes:
                for link in route:
                    key = (item.number, link.subject, link.path, link.line)
                    if key not in met:
                        met.add(key)
                        yield link, item.number


def _citation(link: CitedLink, number: int, name: str | None, text: str | None) -> dict[str, Any]:
    return {"item": number, "subject": link.subject, "path": link.path, "line": link.line, "file": name, "text": text}


def _when(at: datetime) -> str:
    return at.isoformat(timespec="seconds")


def _json(value: Any) -> bytes:
    return (json.dumps(value, indent=1, ensure_ascii=True) + "\n").encode()
