"""Access rules of OpenLDAP: slapd.access(5), as values of olcAccess in its own configuration (slapd-config(5)).

to <what> [ by <who> [ <access> ] [ <control> ] ]+
"""

import re

from fidelitas.facts import Place, ServerBy, ServerRule, ServerRules, Who
from fidelitas.languages.ldap.ldif import Entry

__all__ = ["read_server_rules", "server_rule", "unquoted"]

_NUMBER = re.compile(r"\A\{(-?\d+)\}")
_WORD = re.compile(r'((?:[^\s"]|"(?:[^"\\]|\\.)*")+)')
# What each level allows of an attribute: to add values, and to take them away; "manage" is beyond both.
_LEVELS = {
    "none": "",
    "disclose": "",
    "auth": "",
    "compare": "",
    "search": "",
    "read": "",
    "add": "a",
    "delete": "z",
    "write": "az",
    "manage": "azm",
}
_PRIVILEGES = re.compile(r"([=+-])([mwazrscxd0]*)\Z")
_CONTROLS = frozenset({"stop", "continue", "break"})
_NAMED = {"*": Who.ANYONE, "anonymous": Who.ANONYMOUS, "users": Who.USERS, "self": Who.ITSELF}
_STYLES = {"": "exact", "base": "exact", "baseobject": "exact", "exact": "exact", "one": "one", "onelevel": "one", "sub": "subtree",
           "subtree": "subtree", "children": "children", "regex": "regex"}  # fmt: skip


def read_server_rules(entry: Entry, origin: Place) -> ServerRules:
    """Return what the object of a database in the configuration says of access to that."""
    suffixes = tuple(value for value, _ in entry.texts("olcSuffix"))
    stated = sorted(entry.texts("olcAccess"), key=_number)
    return ServerRules(
        suffixes=suffixes,
        root=entry.first("olcRootDN") or "",
        general=(entry.first("olcDatabase") or "").endswith("frontend"),
        rules=tuple(server_rule(_NUMBER.sub("", text), origin.at(line)) for text, line in stated),
        place=origin.at(entry.line),
    )


def _number(stated: tuple[str, int]) -> tuple[int, int]:
    found = _NUMBER.match(stated[0])
    return (int(found[1]) if found and len(found[1]) < 10 else 0, stated[1])


def server_rule(text: str, place: Place) -> ServerRule:
    """Return a rule: ``to WHAT by WHO ACCESS …``, with or without "access" before it."""
    words = [unquoted(found[1]) for found in _WORD.finditer(text)]
    if words[:1] == ["access"]:
        words = words[1:]
    parts: list[list[str]] = [[]]
    for word in words[1:]:
        if word.lower() == "by":
            parts.append([])
        else:
            parts[-1].append(word)
    style, dn, known = "subtree", "", words[:1] == ["to"]
    attributes: tuple[str, ...] = ()
    for word in parts[0]:
        name, equals, value = word.partition("=")
        value = unquoted(value)
        if word == "*":
            continue
        if name.lower().startswith("dn") and equals:
            style, dn = _STYLES.get(name[3:].lower(), "unknown"), value
            style, dn = ("subtree", "") if value == "*" else (style, dn)
        elif name.lower() in ("attrs", "attr") and equals:
            attributes = tuple(one.strip().lower() for one in value.split(","))
        else:
            known = False  # a filter, a value, or what is not understood: whether it is about an object is not known
    return ServerRule(
        style=style,
        dn=dn,
        attributes=attributes,
        known=known and style not in ("regex", "unknown"),
        by=tuple(_by(one) for one in parts[1:]),
        text=text.strip(),
        place=place,
    )


def _by(words: list[str]) -> ServerBy:
    who, style, value = Who.UNKNOWN, "", ""
    access, control, sure = None, "stop", True
    for at, word in enumerate(words):
        if word.lower() in _CONTROLS:
            control = word.lower()
        elif word.lower().removeprefix("self") in _LEVELS or _PRIVILEGES.match(word.lower().removeprefix("self")):
            access = word.lower()
        elif at == 0:
            who, style, value = _who(word)
        else:
            sure = False  # a further condition: an address, a strength of encryption
    own, bare = access is not None and access.startswith("self"), (access or "").removeprefix("self")
    sign, allows = _allowed(bare)
    return ServerBy(who=who, style=style, value=value, sign=sign, allows=allows, sure=sure, control=control, own=own)


def _allowed(access: str) -> tuple[str, str]:
    """Return whether what is allowed is all, added to what was allowed before or taken from it, and what; without a level nothing."""
    found = _PRIVILEGES.match(access)
    sign, letters = (found[1], found[2].replace("w", "az")) if found else ("=", _LEVELS.get(access, ""))
    return sign, "".join(sorted(set(letters) & set("azm")))


def _who(word: str) -> tuple[Who, str, str]:
    if word.lower() in _NAMED:
        return _NAMED[word.lower()], "", ""
    name, equals, value = word.partition("=")
    kind, _, style = name.lower().partition(".")
    if kind == "dn" and equals:
        if unquoted(value) == "*":
            return Who.ANYONE, "", ""
        return (Who.DN if _STYLES.get(style, "") not in ("", "regex") else Who.UNKNOWN), _STYLES.get(style, ""), unquoted(value)
    if kind.partition("/")[0] == "group" and equals and style in ("", "exact", "base"):
        return Who.GROUP, "", unquoted(value)
    return Who.UNKNOWN, "", word


def unquoted(text: str) -> str:
    """Return a text without the quotation marks round it, and backslashes in them."""
    return re.sub(r"\\(.)", r"\1", text[1:-1]) if len(text) > 1 and text[0] == text[-1] == '"' else text
