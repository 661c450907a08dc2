"""The file of an estate where it lies, with the lists of names that it refers to.

It says which programs are run here and where root is asked for: a file that someone else can write is refused.
"""

import os
import stat
import subprocess
from collections.abc import Sequence
from pathlib import Path

from fidelitas.errors import ReadError, RequestError
from fidelitas.estate import Estate, read_estate
from fidelitas.text import clipped, decode, escape_control

__all__ = ["estate_at"]

_LARGEST = 16 << 20
_SECONDS = 60


def estate_at(path: Path) -> Estate:
    """Return the estate that a file declares; raises `ReadError` where it cannot be read, `RequestError` for its mistakes."""
    estate = read_estate(_text(path), str(path), lambda name: _text(path.parent / name), lambda words: _printed(words, path.parent))
    if estate.ssh_config is not None:
        _text(estate.ssh_config)  # it can name programs that ssh runs, and ssh does not look whose it is
    return estate


def _text(path: Path) -> str:
    try:
        with path.open("rb") as stream:
            _refuse_of_others(path, os.fstat(stream.fileno()))
            content = stream.read(_LARGEST + 1)
    except OSError as error:
        raise ReadError(f'could not read "{path}": {error.strerror or error}', hint="Name the file of the estate, or write one.") from error
    if len(content) > _LARGEST:
        raise ReadError(f'"{path}" is larger than {_LARGEST >> 20} MiB')
    return decode(content)


def _refuse_of_others(path: Path, state: os.stat_result) -> None:
    if not stat.S_ISREG(state.st_mode):
        raise ReadError(f'"{path}" is not a regular file')
    if state.st_uid not in (os.geteuid(), 0) or state.st_mode & (stat.S_IWGRP | stat.S_IWOTH):
        raise ReadError(
            f'"{path}" is not used: it belongs to another user, or others can write it',
            hint="It says what is run: chown it to yourself and chmod go-w it.",
        )


def _printed(words: Sequence[str], folder: Path) -> str:
    try:
        done = subprocess.run(words, cwd=folder, capture_output=True, timeout=_SECONDS, check=False, stdin=subprocess.DEVNULL)
    except (OSError, subprocess.TimeoutExpired) as error:
        raise RequestError(f'"{words[0]}" could not be run: {getattr(error, "strerror", None) or error}') from error
    if done.returncode:
        said = clipped(escape_control(" ".join(decode(done.stderr).split())), 200)
        raise RequestError(f'"{words[0]}" ended with {done.returncode}: {said}')
    return decode(done.stdout[:_LARGEST])
