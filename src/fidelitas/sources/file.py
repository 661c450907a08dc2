"""A file handed in: what the probe printed on a host, carried here by hand."""

import io
import stat
from collections.abc import Callable, Iterable
from pathlib import Path

from fidelitas.errors import EvidenceError, ReadError
from fidelitas.evidence import is_archive, read_bundle
from fidelitas.sources.collected import Collected, sealed

__all__ = ["DumpReader", "from_file", "from_group_listing", "from_user_rights", "no_group_listing", "regular_file"]

# Whether a file is of a form, and what makes evidence of its content and a name for the subject.
DumpReader = tuple[Callable[[bytes], bool], Callable[[bytes, str], Collected]]
# A packed bundle of this size holds more than the reader's own limit for what may come out of it.
_LARGEST = 2**31


def from_file(path: Path, name: str | None = None, dumps: Iterable[DumpReader] = ()) -> Collected:
    """Return the evidence in a file: what the probe printed on a host, or another form of which `dumps` recognise and read one each.

    Raises `ReadError` if it cannot be read, `EvidenceError` if it is neither.
    """
    try:
        archive = regular_file(path, "evidence file", "Give a file that the probe printed.")
    except OSError as error:
        raise ReadError(
            f'could not read evidence file "{path}": {error.strerror or error}',
            hint="Give a file that the probe printed.",
        ) from error
    # A bundle is one whatever is in it: a line in a file of the host must not make it look like another form.
    for recognise, read in () if is_archive(archive) else dumps:
        if recognise(archive):
            return read(archive, name or path.stem)
    try:
        return Collected(bundle=read_bundle(io.BytesIO(archive)), archive=archive)
    except EvidenceError as error:
        raise EvidenceError(f'"{path}": {error}', hint=error.hint or "Give a file that the probe printed.") from error


def from_group_listing(content: bytes, name: str) -> Collected:
    """Return the evidence in what ``net localgroup NAME`` printed on a Windows machine."""
    return sealed(name, "windows", {"group": content}, "net localgroup")


def from_user_rights(content: bytes, name: str) -> Collected:
    """Return the evidence in an export of the user rights of a Windows machine."""
    return sealed(name, "windows", {"user-rights": content}, "secedit /export /areas USER_RIGHTS")


def no_group_listing(_content: bytes, name: str) -> Collected:
    """Refuse what ``net user`` or ``whoami`` printed: it is about one account, and does not show who else holds a right."""
    raise EvidenceError(
        f'"{name}" holds what "net user" or "whoami" prints: it is about one account',
        hint='Give what "net localgroup NAME" prints, an export of "secedit /export /areas USER_RIGHTS", or what the probe wrote.',
    )


def regular_file(path: Path, what: str, hint: str = "") -> bytes:
    """Return the content of a file, not of a pipe or a device; raises `OSError`, or `ReadError` for what is no such file or too large."""
    found = path.stat()
    if not stat.S_ISREG(found.st_mode):  # a pipe would be waited for without end
        raise ReadError(f'could not read {what} "{path}": it is not a regular file', hint=hint)
    if found.st_size > _LARGEST:
        raise ReadError(f'could not read {what} "{path}": it is larger than {_LARGEST} bytes')
    return path.read_bytes()
