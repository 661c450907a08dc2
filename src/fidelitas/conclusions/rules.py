"""The version of the rules: a digest over everything in this package that decides what follows from evidence."""

from functools import cache
from hashlib import blake2b
from pathlib import Path

__all__ = ["rules_digest"]

# These show and ask, reach and keep; nothing that is concluded follows from them.
_DECIDES_NOTHING = frozenset({"cli", "demo", "estate", "ledger", "migrations", "reports", "sources", "surveying"})
_RULES = frozenset({".py", ".toml"})


@cache
def rules_digest() -> bytes:
    """Return the digest of the modules and tables that conclusions follow from."""
    package = Path(__file__).parent.parent
    digest = blake2b(digest_size=32)
    for path in sorted(package.rglob("*")):
        parts = path.relative_to(package).parts
        if path.suffix in _RULES and parts[0] not in _DECIDES_NOTHING:
            content = path.read_bytes()
            digest.update(f"{'/'.join(parts)}\0{len(content)}\0".encode())
            digest.update(content)
    return digest.digest()
