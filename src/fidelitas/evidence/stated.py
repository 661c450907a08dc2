"""What evidence states that is the same whenever it is taken, as a digest: of an unchanged subject it is what it was at the last survey.

Left out is what differs each time and decides nothing by itself: times, process numbers, who is logged on, how long logs have grown.  Who
runs processes, and with which groups, is part of it.
"""

from collections.abc import Mapping

from fidelitas.evidence.bundle import Bundle
from fidelitas.evidence.manifest import Item

__all__ = ["stated_parts"]

_PROCESSES = "processes"
_MOMENTARY = frozenset({("listing", _PROCESSES), ("listing", "login-ids"), ("file", "/run/utmp")})
_GROWS = ("/var/log/", "/run/log/", "/run/utmp")


def stated_parts(bundle: Bundle, digests: Mapping[tuple[str, str], bytes]) -> bytes:
    """Return, as bytes to be digested, what a bundle states; `digests` are those of its contents, by kind and by path or name."""
    manifest = bundle.manifest
    contents = sorted((name, digest) for name, digest in digests.items() if name[0] != "log" and name not in _MOMENTARY)
    parts = (
        *(bundle.platform, bundle.host_name, bundle.taken_by, bundle.live, bundle.addresses),
        [_of_item(item) for item in manifest.items],
        [(gap.path, gap.reason, gap.weakens) for gap in bundle.gaps],
        contents,
        _running(bundle.listings.get(_PROCESSES)),
    )
    return repr(parts).encode("utf-8", "surrogateescape")


def _of_item(item: Item) -> tuple[object, ...]:
    size = None if item.path.startswith(_GROWS) else item.size
    return item.path, item.kind, item.mode, item.uid, item.gid, size, item.real, item.digests, item.member is not None


def _running(processes: bytes | None) -> list[bytes] | None:
    """Return with which users and groups processes run, each once; lines of another form as they are."""
    if processes is None:
        return None
    rows = (line.split(b"\t", 5) for line in processes.split(b"\n"))
    return sorted({b"\t".join(row[2:5]) if len(row) == 6 else b"\t".join(row) for row in rows})
