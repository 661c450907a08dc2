"""A file handed in: what the probe printed on a host, carried here by hand."""

import io
import re
import stat
from pathlib import Path

from fidelitas.errors import EvidenceError, ReadError
from fidelitas.evidence import read_bundle
from fidelitas.sources.collected import Collected, sealed
from fidelitas.text import first_line

__all__ = ["from_file"]

# So far into a file its first line is looked for.
_BEGINNING = 1 << 20
# The line of hyphens that net localgroup prints above the members; in UTF-16 with a zero to each.
_RULE = re.compile(rb"\n-{40,}\r?\n")
_LARGEST_TEXT = 1 << 20
# A packed bundle of this size holds more than the reader's own limit for what may come out of it.
_LARGEST = 2**31


def from_file(path: Path, name: str | None = None) -> Collected:
    """Return the evidence in a file: what the probe printed on a host, or its script for a database server.

    Raises `ReadError` if it cannot be read, `EvidenceError` if it is neither.
    """
    try:
        archive = _content(path)
    except OSError as error:
        raise ReadError(
            f'could not read evidence file "{path}": {error.strerror or error}',
            hint="Give a file that the probe printed.",
        ) from error
    if archive.startswith(b"fidelitas-postgresql "):
        from fidelitas.sources.postgresql import from_postgresql_dump  # noqa: PLC0415 a driver that others do without

        return from_postgresql_dump(archive, name or path.stem)
    if archive[:40].startswith(b"#") and b"fidelitas-mariadb " in archive[:40]:
        from fidelitas.sources.mariadb_dump import from_mariadb_dump  # noqa: PLC0415

        return from_mariadb_dump(archive, name or path.stem)
    if first_line(archive[:_BEGINNING].decode("latin-1")).lower().startswith(("version:", "dn:")):
        from fidelitas.sources.directory import from_ldif  # noqa: PLC0415

        return from_ldif(archive, name or path.stem)
    if len(archive) <= _LARGEST_TEXT and _RULE.search(archive.replace(b"\0", b"")):
        return sealed(name or path.stem, "windows", {"group": archive}, "net localgroup")
    try:
        return Collected(bundle=read_bundle(io.BytesIO(archive)), archive=archive)
    except EvidenceError as error:
        raise EvidenceError(f'"{path}": {error}', hint=error.hint or "Give a file that the probe printed.") from error


def _content(path: Path) -> bytes:
    found = path.stat()
    if not stat.S_ISREG(found.st_mode):  # a pipe would be waited for without end
        raise ReadError(f'could not read evidence file "{path}": it is not a regular file', hint="Give a file that the probe printed.")
    if found.st_size > _LARGEST:
        raise ReadError(f'could not read evidence file "{path}": it is larger than {_LARGEST} bytes')
    return path.read_bytes()
