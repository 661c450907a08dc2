"""Files that a user hands in to be read whole: maps of people, charters, work lists."""

from pathlib import Path

from fidelitas.errors import ReadError

__all__ = ["content_given"]

_LARGEST = 64 << 20


def content_given(path: Path, what: str, hint: str = "") -> bytes:
    """Return the content of a file, also of a pipe; raises `ReadError` where it cannot be read, or has no end."""
    try:
        with path.open("rb") as stream:
            content = stream.read(_LARGEST + 1)
    except OSError as error:
        raise ReadError(f'could not read {what} "{path}": {error.strerror or error}', hint=hint) from error
    if len(content) > _LARGEST:
        raise ReadError(f'could not read {what} "{path}": it is larger than {_LARGEST >> 20} MiB', hint=hint)
    return content
