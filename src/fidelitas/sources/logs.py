"""Logs where they lie: which files belong to them, in which order, and their content in blocks of whole lines, unpacked.

Rotated files come before what they were rotated from; a packed copy of one that is there unpacked is left out.
"""

import bz2
import gzip
import hashlib
import lzma
import re
import zlib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import partial
from io import BufferedIOBase
from pathlib import Path

import zstandard

from fidelitas.errors import ReadError

__all__ = ["Log", "logs_at"]

_BLOCK = 1 << 18
# A line that is longer is cut: no program that we read writes such lines, and whoever makes one wants to stop the reader.
_LONGEST_LINE = 1 << 20
_NAMES = re.compile(
    r"(?P<base>(?:auth|secure|messages|syslog|sudo|user|sulog|journal|audit|wtmp|btmp)[A-Za-z0-9_-]*?(?:\.log)?)"
    r"(?P<turn>(?:[.-]\d+)?)(?P<pack>\.(?:gz|xz|zst|bz2))?\Z|(?P<other>.+\.(?:json|export|jsonl))\Z"
)
_BROKEN = (OSError, EOFError, lzma.LZMAError, zlib.error, zstandard.ZstdError)


@dataclass(frozen=True, slots=True)
class Log:
    """One file of a log: `blocks` reads it anew; `by` is when it was last written to."""

    path: str
    by: datetime
    blocks: Callable[[], Iterator[bytes]]


def logs_at(paths: Iterable[Path]) -> list[Log]:
    """Return the logs at some paths, the older first; of a folder those with names that logs of privilege have."""
    files = [file for path in paths for file in _files(path)]
    logs = [_log(file) for file in sorted(files, key=_age)]
    first_lines: dict[bytes, Log] = {}
    for log in logs:
        first_lines.setdefault(hashlib.sha256(_beginning(log)).digest(), log)
    return list(first_lines.values())


def _beginning(log: Log) -> bytes:
    try:
        return next(log.blocks(), b"")[:4096]
    except ReadError:  # damaged from the start: told when it is read
        return log.path.encode("utf-8", "surrogateescape")


def _files(path: Path) -> list[Path]:
    try:
        if not path.is_dir():
            return [path]
        inside = sorted(path.iterdir())
        logs = [one for one in inside if one.is_file() and _NAMES.match(one.name)]
        return logs or [one for folder in inside if folder.is_dir() for one in _files(folder)]  # a folder of hosts
    except OSError as error:
        raise ReadError(f'could not read "{path}": {error.strerror or error}', hint=_hint(error)) from error


def _age(path: Path) -> tuple[str, int, str]:
    """Return by what logs are ordered: by name, then by the number or date of rotation, the oldest first, the one in use last."""
    found = _NAMES.match(path.name)
    if found is None or found["base"] is None:
        return str(path), 0, ""
    turn = found["turn"]
    # A date grows, a number shrinks towards the present.
    age = 1 if not turn else -int(turn[1:]) if len(turn) < 7 else int(turn[1:]) - 10**14
    return str(path.parent / found["base"]), age, found["pack"] or ""


def _log(path: Path) -> Log:
    try:
        by = datetime.fromtimestamp(path.stat().st_mtime, UTC)
        with path.open("rb") as stream:
            stream.read(1)
    except OSError as error:
        raise ReadError(f'could not read log "{path}": {error.strerror or error}', hint=_hint(error)) from error
    return Log(str(path), by, partial(_blocks, path))


def _hint(error: OSError) -> str:
    return "Run as an account that may read logs." if isinstance(error, PermissionError) else "Name a log, or a folder of logs."


def _blocks(path: Path) -> Iterator[bytes]:
    """Yield a log's content in blocks that end with a line; raises `ReadError` where it cannot be read or unpacked."""
    rest = b""
    try:
        with _opened(path) as stream:
            while block := stream.read1(_BLOCK):  # what comes before the damage is given out before the damage is met
                block = rest + block
                cut = block.rfind(b"\n") + 1
                if cut:
                    yield block[:cut]
                    rest = block[cut:]
                else:
                    rest = block[:_LONGEST_LINE]
    except _BROKEN as error:
        if rest:
            yield rest
        raise ReadError(f'could not read log "{path}" to its end: {error}', hint="What was read before counts.") from error
    if rest:
        yield rest


def _opened(path: Path) -> BufferedIOBase:
    with path.open("rb") as stream:
        magic = stream.read(6)
    if magic.startswith(b"\x1f\x8b"):
        return gzip.open(path)
    if magic.startswith(b"\xfd7zXZ"):
        return lzma.open(path)
    if magic.startswith(b"BZh"):
        return bz2.open(path)
    if magic.startswith(b"\x28\xb5\x2f\xfd"):
        return zstandard.open(path, "rb")  # type: ignore[no-any-return]
    return path.open("rb")
