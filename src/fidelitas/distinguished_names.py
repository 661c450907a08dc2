"""Distinguished names of a directory, in the form in which equal ones are equal: RFC 4514 (their text), RFC 4518 (how values compare).

Knows the syntax; asks no directory.  Attribute types are compared by name, an object identifier as the name that it stands for; values
without regard to case, blanks at the ends, runs of blanks, and the form of composed letters.
"""

import re
import unicodedata
from functools import lru_cache

__all__ = ["first_value", "folded", "levels_below", "realm_of"]

# Types that directories use in names, by their object identifiers (RFC 4514, 3; RFC 4519).
_TYPES = {
    "2.5.4.3": "cn", "2.5.4.4": "sn", "2.5.4.5": "serialnumber", "2.5.4.6": "c", "2.5.4.7": "l", "2.5.4.8": "st", "2.5.4.9": "street",
    "2.5.4.10": "o", "2.5.4.11": "ou", "2.5.4.42": "givenname", "0.9.2342.19200300.100.1.1": "uid", "0.9.2342.19200300.100.1.25": "dc",
    "commonname": "cn", "organizationalunitname": "ou", "organizationname": "o", "domaincomponent": "dc", "userid": "uid",
    "countryname": "c", "localityname": "l", "stateorprovincename": "st", "streetaddress": "street", "surname": "sn",
}  # fmt: skip
# A name of which only the case of letters is to be folded: short types and the commonest signs, no blank beside another or at an end.
_SIMPLE = re.compile(r"[A-Za-z]{1,3}=[\w.@-]+(?: [\w.@-]+)*(?:,[A-Za-z]{1,3}=[\w.@-]+(?: [\w.@-]+)*)*", re.ASCII)
_HEX = re.compile(r"(?:\\[0-9A-Fa-f]{2})+")
_LONGEST = 1 << 16


@lru_cache(maxsize=1 << 17)
def folded(name: str) -> str:
    """Return a distinguished name in the form in which equal ones are equal; what is not one as it stands, in small letters."""
    if len(name) > _LONGEST:
        return name
    if _SIMPLE.fullmatch(name):
        return name.lower()
    return ",".join(_steps(name))


def _steps(name: str) -> list[str]:
    return ["+".join(sorted(map(_assertion, _split(part, "+")))) for part in _split(name, ",;")]


def first_value(name: str) -> str:
    """Return the value of the first part of a name, escapes undone: what the object is called where it lies."""
    parts = _split(name, ",;")
    kind, equals, value = parts[0].partition("=") if parts else ("", "", "")
    return _text(value) if equals else kind


def levels_below(name: str, base: str) -> int | None:
    """Return how many steps a name lies below a base: 0 for the base itself, ``None`` for what is not below it."""
    if max(len(name), len(base)) > _LONGEST:
        return None
    parts, above = _steps(name), _steps(base) if base.strip() else []
    return len(parts) - len(above) if parts[len(parts) - len(above) :] == above and len(parts) >= len(above) else None


def realm_of(name: str) -> str:
    """Return the domain that a name ends in, as in ``corp.example`` for ``…,DC=corp,DC=example``; nothing where it has no such parts."""
    parts = (part.partition("=") for part in folded(name).split(","))
    return ".".join(value for kind, _, value in parts if kind == "dc")


def _split(text: str, marks: str) -> list[str]:
    """Return the parts of a text between marks that are neither escaped nor in quotation marks."""
    parts: list[str] = []
    begin = at = 0
    quoted = False
    while at < len(text):
        sign = text[at]
        if sign == "\\":
            at += 1
        elif sign == '"':
            quoted = not quoted
        elif sign in marks and not quoted:
            parts.append(text[begin:at])
            begin = at + 1
        at += 1
    return [*parts, text[begin:]]


def _assertion(text: str) -> str:
    kind, equals, value = text.partition("=")
    if not equals:
        return " ".join(text.split()).lower()
    name = kind.strip().lower().removeprefix("oid.")
    shown = unicodedata.normalize("NFKC", _text(value)).casefold()
    return f"{_TYPES.get(name, name)}={_escaped(' '.join(shown.split()))}"


def _escaped(value: str) -> str:
    """Return a value with the signs escaped that part a name, so that what is joined can be told apart."""
    return re.sub(r"[,+;\\=]", r"\\\g<0>", value)


def _without_blanks(value: str) -> str:
    """Return a value without the blanks round it, but for one that is escaped."""
    bare = value.strip(" ")
    is_escaped = (len(bare) - len(bare.rstrip("\\"))) % 2 == 1 and value.endswith(" ")
    return bare + " " if is_escaped else bare


def _text(value: str) -> str:
    r"""Return a value with its escapes undone: ``\2C``, ``\,``, quotation marks, ``#`` and hexadecimal BER."""
    bare = _without_blanks(value)
    if bare.startswith("#"):
        return _from_ber(bare[1:].strip()) or bare
    if len(bare) > 1 and bare[0] == bare[-1] == '"':
        bare = bare[1:-1]
    if "\\" not in bare:
        return bare
    decoded = _HEX.sub(lambda found: bytes.fromhex(found[0].replace("\\", "")).decode("utf-8", "surrogateescape"), _protected(bare))
    return re.sub(r"\\(.)", r"\1", decoded, flags=re.DOTALL).replace("\0", "\\")


def _protected(value: str) -> str:
    """Return a value in which an escaped backslash cannot be taken for the beginning of another escape."""
    return value.replace("\\\\", "\0")


def _from_ber(text: str) -> str | None:
    """Return the string that hexadecimal BER holds: UTF8String, PrintableString, IA5String, OCTET STRING and their like, short ones."""
    try:
        raw = bytes.fromhex(text)
    except ValueError:
        return None
    if len(raw) < 2 or raw[0] not in (0x04, 0x0C, 0x13, 0x14, 0x16) or raw[1] >= 0x80 or len(raw) != raw[1] + 2:
        return None
    return raw[2:].decode("utf-8", "surrogateescape")
