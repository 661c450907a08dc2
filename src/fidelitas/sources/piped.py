"""What comes through a pipe, kept so that it can be read more than once, and by several processes."""

import shutil
import stat
import tempfile
from pathlib import Path
from typing import IO

__all__ = ["STANDARD_INPUT", "lasting_path"]

STANDARD_INPUT = Path("/dev/stdin")
_BLOCK = 1 << 20
_kept: dict[Path, IO[bytes]] = {}  # by the path of each pipe a file without a name, which is gone when the program ends


def lasting_path(path: Path) -> Path:
    """Return under which path a file can be read again and again: its own, or of a pipe that of a copy; may raise `OSError`.

    Standard input is one too, and what a shell gives for ``<(command)``: processes that read for this one have others of these.
    """
    if stat.S_ISREG(path.stat().st_mode):
        real = path.resolve()
        return real if path.is_relative_to("/dev") and real.exists() else path
    if path not in _kept:
        with path.open("rb") as pipe:
            copy = tempfile.TemporaryFile()  # noqa: SIM115 open as long as the program runs
            shutil.copyfileobj(pipe, copy, _BLOCK)
            copy.flush()
        _kept[path] = copy
    return Path(f"/proc/self/fd/{_kept[path].fileno()}")
