"""Which files exist, as far as decisions about commands depend on it.

sudo compares files, not spellings: two paths are one command when their base names agree and they are the same file.  `Files` is what
a decision asks; where nothing is known of a host's files, `NoFiles` leaves the comparison of spellings, as sudo itself does for a file
that does not exist.
"""

from collections.abc import Iterator
from typing import Protocol

from fidelitas.patterns import has_wildcards, wildcard_matches

__all__ = ["Files", "Identity", "NoFiles", "glob"]


class Identity(Protocol):
    """What makes a file the same file: device and inode; and its mode."""

    @property
    def device(self) -> int: ...
    @property
    def inode(self) -> int: ...
    @property
    def mode(self) -> int: ...


class Files(Protocol):
    """The files of a host.  Paths are absolute, links are followed."""

    known: bool  # False: nothing is known, and nothing follows from a file's not being found

    def identity(self, path: str) -> Identity | None:
        """Return a file's identity, or ``None`` where there is no such file."""

    def names(self, folder: str) -> list[str]:
        """Return the names in a folder; none where it cannot be listed."""

    def is_program(self, path: str) -> bool:
        """Return whether a path is a regular file that someone may execute."""

    def digest(self, path: str, algorithm: str) -> bytes | None:
        """Return the digest of a file's content, or ``None`` where it cannot be read."""


class NoFiles:
    """A host whose files are not known."""

    known = False

    def identity(self, path: str) -> Identity | None:
        return None

    def names(self, folder: str) -> list[str]:
        return []

    def is_program(self, path: str) -> bool:
        return False

    def digest(self, path: str, algorithm: str) -> bytes | None:
        return None


def glob(files: Files, pattern: str) -> Iterator[str]:
    """Yield the paths that glob(3) finds for an absolute pattern: wildcards do not cross slashes and do not take leading dots."""
    found = [""]
    parts = pattern.lstrip("/").split("/")
    for index, part in enumerate(parts):
        if part == "" and index == len(parts) - 1:  # a trailing slash: folders only
            found = [f"{path}/" for path in found if _is_folder(files, path)]
        elif part == "":
            continue
        else:
            found = [inside for path in found for inside in _inside(files, path, part)]
    slashes = pattern[: len(pattern) - len(pattern.lstrip("/"))]
    yield from (slashes + path.removeprefix("/") for path in found)


def _inside(files: Files, folder: str, part: str) -> Iterator[str]:
    if not has_wildcards(part):
        if files.identity(f"{folder}/{part}") is not None:
            yield f"{folder}/{part}"
        return
    for name in sorted(files.names(folder or "/")):
        if wildcard_matches(part, name, period=True):
            yield f"{folder}/{name}"


def _is_folder(files: Files, path: str) -> bool:
    identity = files.identity(path or "/")
    return identity is not None and identity.mode & 0o170000 == 0o040000
