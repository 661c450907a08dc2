"""What the probe's search of the files found: the listings of setuid files, capabilities and packages, put together.

Knows the listings' forms (docs/evidence-format.md) and those of the package databases; not what a file with such a bit amounts to.
"""

import re
from collections.abc import Iterator, Mapping

from fidelitas.facts import Gap, Packaged, Place, Programs, SetIdFile
from fidelitas.languages.linux.capabilities import read_attributes, read_told_capabilities
from fidelitas.text import decode

__all__ = ["read_programs"]

_RECORD = re.compile(rb"([0-7]{1,5}) ([0-9]{1,10}) ([0-9]{1,10}) ([0-9]{1,19}) (-?[0-9]{1,19})(?:\.[0-9]*)? (/.*)\Z", re.DOTALL)
_HEX = re.compile(r"[0-9a-f]{16,128}\Z")
# The digest algorithms of rpm by the length of the hexadecimal text.
_BY_LENGTH = {32: "md5", 40: "sha1", 64: "sha256", 96: "sha384", 128: "sha512"}


def read_programs(listings: Mapping[str, bytes], subject: str) -> tuple[Programs | None, tuple[Gap, ...]]:
    """Return what the search found, or ``None`` where there was none."""
    if "file-systems" not in listings:
        return None, ()
    origin = Place(subject=subject, path="listing capabilities")
    capable, gaps = read_attributes(listings.get("capabilities", b""), origin)
    told, more = read_told_capabilities(listings.get("getcap", b""), Place(subject=subject, path="listing getcap"))
    systems = [line.split("\t") for line in _lines(listings, "file-systems")]
    return Programs(
        set_id=tuple(_set_id(listings.get("set-id", b""), subject)),
        capable=(*capable, *told),
        packaged=_of_dpkg(listings) if "dpkg-owners" in listings else _of_rpm(listings),
        digests=_digests(listings),
        manager="dpkg" if "dpkg-owners" in listings else "rpm" if "rpm-files" in listings else None,
        searched=tuple(dict.fromkeys((row[1] or "/") for row in systems if row[0] == "searched" and len(row) == 2)),
        skipped=tuple((row[1], row[2]) for row in systems if row[0] == "skipped" and len(row) == 3),
    ), (*gaps, *more)


def _lines(listings: Mapping[str, bytes], name: str) -> Iterator[str]:
    return (line for line in decode(listings.get(name, b"")).split("\n") if line)


def _rows(listings: Mapping[str, bytes], name: str, columns: int) -> Iterator[list[str]]:
    for line in _lines(listings, name):
        row = line.split("\t", columns - 1)
        if len(row) == columns:
            yield row


def _set_id(content: bytes, subject: str) -> Iterator[SetIdFile]:
    """record = mode uid gid size mtime path NUL"""
    for record in content.split(b"\0"):
        found = _RECORD.match(record)
        if found:
            path = decode(found[6])
            uid, gid, size, mtime = (int(part) for part in found.groups()[1:5])
            place = Place(subject=subject, path=path)
            yield SetIdFile(path=path, mode=int(found[1], 8), uid=uid, gid=gid, size=size, mtime=mtime, place=place)


def _digests(listings: Mapping[str, bytes]) -> dict[tuple[str, str], str]:
    digests = {(path, "sha256"): digest for digest, path in _rows(listings, "program-digests", 2)}
    return digests | {(path, "md5"): digest for digest, path in _rows(listings, "md5", 2)}


def _merged(path: str) -> str:
    """Return a path as it is where /bin, /sbin and /lib lead to their namesakes in /usr."""
    return f"/usr{path}" if path.startswith(("/bin/", "/sbin/", "/lib")) else path


def _of_dpkg(listings: Mapping[str, bytes]) -> dict[str, Packaged]:
    """Return what dpkg's lists, digests and overrides say.  A path may be listed under the name that it had before /usr was merged."""
    sums: dict[tuple[str, str], str] = {}
    for package, line in _rows(listings, "dpkg-md5sums", 2):
        digest, _, path = line.partition("  ")
        sums[package, f"/{path}"] = digest
    overrides = {}
    for line in _lines(listings, "dpkg-overrides"):
        words = line.split(" ", 3)
        if len(words) == 4 and re.fullmatch(r"[0-7]{1,5}", words[2]):
            overrides[words[3]] = int(words[2], 8)
    found = {}
    for package, path in _rows(listings, "dpkg-owners", 2):
        packaged = sums.get((package, path)) or sums.get((package, _merged(path)))
        stated = Packaged(
            package=package.partition(":")[0],
            digest=packaged,
            algorithm="md5" if packaged else None,
            overridden=overrides.get(path, overrides.get(_merged(path))),
        )
        found[path] = stated
        found.setdefault(_merged(path), stated)
    return found


def _of_rpm(listings: Mapping[str, bytes]) -> dict[str, Packaged]:
    found = {}
    for package, mode, _owner, _group, digest, capabilities, path in _rows(listings, "rpm-files", 7):
        good = _HEX.match(digest) is not None
        found[path] = Packaged(
            package=package,
            digest=digest if good else None,
            algorithm=_BY_LENGTH.get(len(digest)) if good else None,
            mode=int(mode, 8) & 0o7777 if re.fullmatch(r"[0-7]{1,7}", mode) else None,
            capabilities=capabilities if capabilities not in ("", "(none)") else None,
        )
    return found
