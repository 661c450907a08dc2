"""The password field of account files: crypt(5) hashes, or what the probe puts in their place.

Knows how the state of a password is written.  A hash that is met here all the same (a bundle made by hand) is reduced to its method
and never kept.
"""

import re

from fidelitas.facts import Password, PasswordState

__all__ = ["password"]

# What the probe writes: the state and, after a blank, the method.
_REDACTED = re.compile(r"\{(usable|locked|none)(?: ([a-z0-9-]{1,20}))?\}\Z")

# The prefixes of crypt(5), longest first where one begins another.
_METHODS = (
    ("$1$", "md5"),
    ("$2", "bcrypt"),
    ("$5$", "sha256"),
    ("$6$", "sha512"),
    ("$7$", "scrypt"),
    ("$y$", "yescrypt"),
    ("$gy$", "gost-yescrypt"),
    ("$md5", "sunmd5"),
    ("$3$", "nt"),
    ("$", "unknown"),
)
_TRADITIONAL = re.compile(r"[./0-9A-Za-z]{13}\Z")
_EXTENDED = re.compile(r"_[./0-9A-Za-z]{19}\Z")


def password(field: str, *, shadowed: bool = False) -> Password:
    """Return the state that a password field states; with `shadowed`, an ``x`` refers to the shadow file."""
    if field == "":
        return Password(state=PasswordState.EMPTY)
    if shadowed and field == "x":
        return Password(state=PasswordState.SHADOWED)
    redacted = _REDACTED.match(field)
    if redacted:
        return Password(state=PasswordState(redacted[1]), algorithm=redacted[2])
    rest = field.lstrip("!")
    algorithm = _algorithm(rest)
    if rest != field:
        return Password(state=PasswordState.LOCKED, algorithm=algorithm)
    return Password(state=PasswordState.USABLE if algorithm else PasswordState.NONE, algorithm=algorithm)


def _algorithm(text: str) -> str | None:
    for prefix, name in _METHODS:
        if text.startswith(prefix):
            return name
    if _TRADITIONAL.match(text):
        return "des"
    return "bsdi" if _EXTENDED.match(text) else None
