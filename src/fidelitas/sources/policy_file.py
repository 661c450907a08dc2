"""A policy file that is nowhere in force: on a host's evidence in place of its own, to see what it would amount to."""

import os
from pathlib import Path

from msgspec.structs import replace

from fidelitas.errors import ReadError
from fidelitas.evidence import Bundle, Item

__all__ = ["POLICY", "from_policy_file"]

# Where the new policy stands in for the host's own.
POLICY = "/etc/sudoers"
# The same bound as the probe's.
_LARGEST = 16 * 2**20


def from_policy_file(path: Path, evidence: Bundle) -> Bundle:
    """Return the evidence with another main policy; what it includes is still the host's own.  Raises `ReadError`."""
    try:
        if not path.is_file():
            raise ReadError(f'could not read policy file "{path}": it is not a regular file')
        if os.path.getsize(path) > _LARGEST:  # noqa: PTH202
            raise ReadError(f'could not read policy file "{path}": it is larger than {_LARGEST} bytes')
        content = path.read_bytes()
    except OSError as error:
        raise ReadError(f'could not read policy file "{path}": {error.strerror or error}') from error
    item = Item(path=POLICY, kind="file", mode=0o440, uid=0, gid=0, size=len(content), member="files/policy")
    items = (*(other for other in evidence.items if other.path != POLICY), item)
    gaps = tuple(gap for gap in evidence.gaps if gap.path != POLICY)
    return replace(evidence, manifest=replace(evidence.manifest, items=items), files={**evidence.files, POLICY: content}, gaps=gaps)
