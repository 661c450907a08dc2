"""What comes through a pipe, kept so that it can be read more than once, and by several processes."""

import errno
import stat
import tempfile
from pathlib import Path
from typing import IO

__all__ = ["STANDARD_INPUT", "lasting_path"]

STANDARD_INPUT = Path("/dev/stdin")
_NOTHING = Path("/dev/null")
_BLOCK, _LARGEST = 1 << 20, 16 << 30
_kept: dict[Path, IO[bytes]] = {}  # by the path of each pipe a file without a name, which is gone when the program ends


def lasting_path(path: Path) -> Path:
    """Return under which path a file can be read again and again: its own, or of a pipe that of a copy; may raise `OSError`.

    Standard input is one too, and what a shell gives for ``<(command)``: processes that read for this one have others of these.
    """
    mode = path.stat().st_mode
    if stat.S_ISREG(mode):
        real = path.resolve()
        return real if path.is_relative_to("/dev") and real.exists() else path
    if path not in _kept:
        with path.open("rb") as pipe:
            if not (stat.S_ISFIFO(mode) or stat.S_ISSOCK(mode) or pipe.isatty() or path == _NOTHING):
                raise OSError(errno.EINVAL, "it is a device")
            copy = tempfile.TemporaryFile()  # noqa: SIM115 open as long as the program runs
            while block := pipe.read(_BLOCK):
                if copy.tell() + len(block) > _LARGEST:
                    raise OSError(errno.EFBIG, f"more than {_LARGEST >> 30} GiB come out of it")
                copy.write(block)
            copy.flush()
        _kept[path] = copy
    return Path(f"/proc/self/fd/{_kept[path].fileno()}")
