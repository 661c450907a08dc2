"""The version of the rules: a digest over everything in this package that decides what follows from evidence."""

import os
from collections.abc import Iterator
from functools import cache
from hashlib import blake2b
from pathlib import Path

__all__ = ["rules_digest"]

# These show and ask, reach and keep; nothing that is concluded follows from them.
_DECIDES_NOTHING = frozenset({"cli", "demo", "estate", "ledger", "migrations", "reports", "sources", "surveying"})
_RULES = (".py", ".toml")


@cache
def rules_digest() -> bytes:
    """Return the digest of the modules and tables that conclusions follow from."""
    package = Path(__file__).parent.parent
    digest = blake2b(digest_size=32)
    for name in sorted(_deciding(str(package))):  # of some five hundred files, at each question
        with open(f"{package}/{name}", "rb") as file:  # noqa: PTH123
            content = file.read()
        digest.update(f"{name}\0{len(content)}\0".encode())
        digest.update(content)
    return digest.digest()


def _deciding(package: str) -> Iterator[str]:
    """Yield the files of the package that decide something, by their paths in it."""
    for folder, folders, names in os.walk(package):
        within = folder[len(package) + 1 :]
        if not within:
            folders[:] = [one for one in folders if one not in _DECIDES_NOTHING]
        yield from (f"{within}/{name}" if within else name for name in names if name.endswith(_RULES))
