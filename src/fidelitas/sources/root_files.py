"""The files below a root folder, as decisions about commands ask for them.

Links are followed as a process confined to the folder would follow them: an absolute one starts again at the root, ``..`` never leaves
it.  Answers are kept: a policy asks for the same few files over and over.
"""

import hashlib
import os
import stat
from pathlib import Path

from msgspec import Struct

__all__ = ["FoundFile", "RootFiles"]

# The kernel follows no more (path_resolution(7)).
_MOST_LINKS = 40
_BLOCK = 1 << 20


class FoundFile(Struct, frozen=True):
    """What makes a file the same file: device and inode; and its mode."""

    device: int
    inode: int
    mode: int


class RootFiles:
    """The files of the host whose root folder is `root`."""

    known = True

    def __init__(self, root: Path) -> None:
        self._root = os.fsencode(root.absolute()).rstrip(b"/")
        self._found: dict[str, FoundFile | None] = {}
        self._listed: dict[str, list[str]] = {}

    def identity(self, path: str) -> FoundFile | None:
        """Return a file's identity, or ``None`` where there is no such file."""
        if path not in self._found:
            self._found[path] = self._look(path)
        return self._found[path]

    def names(self, folder: str) -> list[str]:
        """Return the names in a folder; none where it cannot be listed."""
        if folder not in self._listed:
            real = self._resolved(folder)
            try:
                self._listed[folder] = [] if real is None else [os.fsdecode(name) for name in os.listdir(real)]
            except OSError:
                self._listed[folder] = []
        return self._listed[folder]

    def is_program(self, path: str) -> bool:
        """Return whether a path is a regular file that someone may execute."""
        found = self.identity(path)
        return found is not None and stat.S_ISREG(found.mode) and bool(found.mode & 0o111)

    def digest(self, path: str, algorithm: str) -> bytes | None:
        """Return the digest of a file's content, or ``None`` where it cannot be read or is no plain file."""
        found, real = self.identity(path), self._resolved(path)
        if found is None or real is None or not stat.S_ISREG(found.mode):
            return None
        digest = hashlib.new(algorithm)
        try:
            with open(real, "rb") as stream:
                while block := stream.read(_BLOCK):
                    digest.update(block)
        except OSError:
            return None
        return digest.digest()

    def _look(self, path: str) -> FoundFile | None:
        real = self._resolved(path)
        try:
            found = os.lstat(real) if real is not None else None
        except (OSError, ValueError):
            return None
        return FoundFile(found.st_dev, found.st_ino, found.st_mode) if found else None

    def _resolved(self, path: str) -> bytes | None:
        """Return the real path of a file, links followed within the root, or ``None`` where that leads nowhere."""
        pending = [part for part in os.fsencode(path).split(b"/") if part not in (b"", b".")][::-1]
        real, links = b"", 0
        while pending:
            part = pending.pop()
            if part == b"..":
                if not os.path.isdir(self._root + real + b"/"):  # as for the kernel: only out of a folder that is there
                    return None
                real = real.rpartition(b"/")[0]
                continue
            try:
                target = os.readlink(self._root + real + b"/" + part)
            except (OSError, ValueError):
                real += b"/" + part
                continue
            links += 1
            if links > _MOST_LINKS:
                return None
            if target.startswith(b"/"):
                real = b""
            pending += [part for part in target.split(b"/") if part not in (b"", b".")][::-1]
        return self._root + (real or b"/")
