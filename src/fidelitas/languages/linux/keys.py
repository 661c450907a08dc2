"""Public keys: authorized_keys (sshd(8), AUTHORIZED_KEYS FILE FORMAT) and the public halves that lie beside private keys.

Knows lines, options and fingerprints; not whose file it is.  The key itself is reduced to its fingerprint.
"""

import base64
import binascii
import hashlib
import re
from collections.abc import Iterator

from fidelitas.facts import AuthorizedKey, Place
from fidelitas.languages.lines import Broken, Line, Parsed, read_lines

__all__ = ["public_fingerprint", "read_authorized_keys"]

_KEY = re.compile(r"(?P<kind>(?:sk-)?(?:ssh|ecdsa)-[A-Za-z0-9@.-]+)[ \t]+(?P<blob>[A-Za-z0-9+/]+={0,2})(?:[ \t]+(?P<comment>.*))?\Z")
_DIGITS = re.compile(r"[0-9a-f]+")
_OPTION = re.compile(r'(?P<name>[A-Za-z0-9@.-]+)(?:="(?P<value>(?:[^"\\]|\\.)*)")?')


def read_authorized_keys(text: str, origin: Place) -> Parsed[AuthorizedKey]:
    """Return the keys of a file, and a gap for each line that is neither a key nor a comment: sshd passes over it."""
    return read_lines(text, origin, _entry, what="authorized key", weakens="sshd ignores this line: the key opens nothing")


def _entry(line: Line) -> AuthorizedKey | None:
    """line = [ options blanks ] type blanks base64 [ blanks comment ]"""
    text = line.text.strip(" \t\r")
    if not text or text.startswith("#"):
        return None
    key, options = _KEY.match(text), []
    if key is None:
        end = _options_end(text)
        options = list(_options(text[:end]))
        key = _KEY.match(text[end:].lstrip(" \t"))
    if key is None:
        raise Broken("expected a key")
    try:
        blob = base64.b64decode(key["blob"], validate=True)
    except (ValueError, binascii.Error):
        raise Broken("expected a key in base64") from None
    names = {name for name, _ in options}
    return AuthorizedKey(
        key_type=key["kind"],
        fingerprint=_fingerprint(blob),
        comment=(key["comment"] or "").strip() or None,
        options=tuple(options),
        authority="cert-authority" in names,
        place=line.place(),
    )


def _fingerprint(blob: bytes) -> str:
    return "SHA256:" + base64.b64encode(hashlib.sha256(blob).digest()).decode().rstrip("=")


def public_fingerprint(digits: str) -> str | None:
    """Return the fingerprint of a public key, given as hexadecimal digits (RFC 4253, section 6.6); None where it is not a whole one."""
    if not _DIGITS.fullmatch(digits) or len(digits) % 2:
        return None
    blob = bytes.fromhex(digits)
    fields, at = 0, 0
    while at < len(blob):
        at += 4 + int.from_bytes(blob[at : at + 4])
        fields += 1
    return _fingerprint(blob) if at == len(blob) and fields >= 2 else None


def _options_end(text: str) -> int:
    """Return where the options end: at the first blank outside quotes."""
    quoted = escaped = False
    for at, character in enumerate(text):
        if escaped:
            escaped = False
        elif character == "\\":
            escaped = True
        elif character == '"':
            quoted = not quoted
        elif character in " \t" and not quoted:
            return at
    return len(text)


def _options(text: str) -> Iterator[tuple[str, str]]:
    for found in _OPTION.finditer(text):
        yield found["name"].lower(), (found["value"] or "").replace('\\"', '"')
