"""Search filters of a directory, as far as what they ask for is in evidence: RFC 4515.

A filter is true, false or not known (RFC 4511 4.5.1.7): an attribute that is not read makes it so.
"""

from collections.abc import Callable, Mapping

from fidelitas.distinguished_names import folded
from fidelitas.patterns import wildcard_matches

__all__ = ["FilterError", "Matcher", "matcher"]

# The values of each attribute that is known, folded; DNs as `distinguished_names.folded` writes them.
Texts = Mapping[str, frozenset[str]]
Matcher = Callable[[Texts], bool | None]

_DEEPEST = 20
_NUMBERS = frozenset({"uidnumber", "gidnumber"})


class FilterError(ValueError):
    """A filter that is not understood."""


def matcher(text: str) -> Matcher:
    """Return what a filter says of an object; outer brackets may be left out.  Raises `FilterError`."""
    stripped = text.strip()
    found, rest = _filter(stripped if stripped.startswith("(") else f"({stripped})", 0)
    if rest.strip():
        raise FilterError(f'"{rest[:20]}" follows its end')
    return found


def _filter(text: str, depth: int) -> tuple[Matcher, str]:
    if depth > _DEEPEST or not text.startswith("("):
        raise FilterError("brackets are missing, or too many")
    sign = text[1:2]
    if sign in ("&", "|", "!"):
        parts, rest = [], text[2:].lstrip()
        while rest.startswith("("):
            part, rest = _filter(rest, depth + 1)
            parts.append(part)
            rest = rest.lstrip()
        if not rest.startswith(")") or (sign == "!" and len(parts) != 1):
            raise FilterError("brackets are missing")
        return _joined(sign, parts), rest[1:]
    inner, closed, rest = text[1:].partition(")")
    if not closed:
        raise FilterError("a bracket is not closed")
    return _simple(inner), rest


def _joined(sign: str, parts: list[Matcher]) -> Matcher:
    def negated(texts: Texts) -> bool | None:
        said = parts[0](texts)
        return None if said is None else not said

    def decided(texts: Texts) -> bool | None:
        ends = sign == "|"  # the answer that one part alone gives
        said = [part(texts) for part in parts]
        return ends if ends in said else None if None in said else not ends

    return negated if sign == "!" else decided


def _simple(inner: str) -> Matcher:
    attribute, equals, value = inner.partition("=")
    name = attribute.strip().lower()
    if not equals or name.endswith((">", "<", "~")):
        raise FilterError(f'"{inner[:30]}" is not a comparison that is read')
    value = _unescaped(value.strip())
    wanted = folded(value) if name.startswith("memberof") else value.casefold()

    def said(texts: Texts) -> bool | None:
        known = texts.get(name)
        if name == "objectclass":
            return True  # only accounts are asked about
        if known is None:
            return None
        if value == "*":
            return bool(known)
        if name in _NUMBERS and "*" in value:
            return False  # numbers have no parts (RFC 4517 4.2.13)
        return wanted in known if "*" not in value else any(wildcard_matches(wanted, one) for one in known)

    return said


def _unescaped(value: str) -> str:
    """Return a value with the characters that are written by their numbers, a backslash and two digits."""
    parts = value.split("\\")
    found = [parts[0]]
    for part in parts[1:]:
        try:
            found.append(chr(int(part[:2], 16)) + part[2:])
        except ValueError:
            found.append("\\" + part)
    return "".join(found)
