"""What makes the evidence of two hosts alike: everything in it but names, times, addresses and the processes of the moment."""

from hashlib import blake2b

from fidelitas.languages.evidence import HostEvidence

__all__ = ["LIVE", "content_digest"]

# Listings that differ whenever they are taken; what follows from them is told for each host by itself.
LIVE = frozenset({"processes", "login-ids"})
# Holds nothing but the host's name, which the manifest tells too.
_NAMES = frozenset({"/etc/hostname"})


def content_digest(evidence: HostEvidence) -> bytes:
    """Return a digest that hosts share whose evidence states the same; their names, times, addresses and processes aside."""
    parts: list[object] = [evidence.live, evidence.taken_by, evidence.addresses is None, bool(evidence.host_name)]
    parts += [
        (item.path, item.kind, item.mode, item.uid, item.gid, item.size, item.real, item.digests, item.path in evidence.files)
        for item in evidence.items
        if item.path not in _NAMES
    ]
    parts += [(gap.path, gap.reason) for gap in evidence.gaps]
    parts += sorted(name for name in evidence.listings if name in LIVE)
    if any(b"%h" in content for path, content in evidence.files.items() if "sudoers" in path):
        parts.append(evidence.host_name)  # it may be part of the name of an included file
    digest = blake2b(repr(parts).encode("utf-8", "surrogateescape"), digest_size=32)
    named = [*evidence.files.items(), *((name, text) for name, text in evidence.listings.items() if name not in LIVE)]
    for name, content in sorted(one for one in named if one[0] not in _NAMES):
        digest.update(f"\0{len(content)}\0{name}\0".encode("utf-8", "surrogateescape"))
        digest.update(content)
    return digest.digest()
