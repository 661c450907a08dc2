"""Files that a command is asked to write: new ones alone, for their owner alone, since they state who is root where."""

import os
from pathlib import Path

from fidelitas.errors import ReadError, RequestError

__all__ = ["write_new_file"]


def write_new_file(file: Path, content: bytes) -> None:
    """Write a file that is not there yet, with the folders above it; raises `RequestError` where it is, `ReadError` where it cannot."""
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        with os.fdopen(os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600), "wb") as stream:
            stream.write(content)
    except FileExistsError:
        raise RequestError(f'"{file}" exists', hint="Name another place with --out.") from None
    except OSError as error:
        raise ReadError(f'could not write "{file}": {error.strerror or error}', hint="Name another place with --out.") from error
