"""Smaller languages that say who may act as whom: doas.conf(5), polkit rules and administrators, exports(5), ld.so.conf(5), PATH lines.

Knows their syntax.  The rules of polkit are programs in JavaScript: only their common forms are read, and any other is a gap.
"""

import re
import shlex
from collections.abc import Iterator

from fidelitas.facts import DoasRule, Gap, NfsExport, Place, PolkitRule, SearchFolder
from fidelitas.languages.lines import Broken, Line, Parsed, lines_of, read_lines

__all__ = ["read_doas", "read_exports", "read_library_folders", "read_path_lines", "read_polkit_rules"]

_DOAS_OPTIONS = frozenset({"nopass", "nolog", "persist", "keepenv"})


def read_doas(text: str, origin: Place) -> Parsed[DoasRule]:
    """Return the rules of doas.conf, in their order: the last that matches counts."""
    joined = text.replace("\\\n", "  ")
    return read_lines(joined, origin, _doas_rule, what="doas.conf", weakens="doas refuses everybody while its file has an error")


def _doas_rule(line: Line) -> DoasRule | None:
    """rule = ( "permit" | "deny" ) { option } identity [ "as" target ] [ "cmd" command [ "args" { argument } ] ]"""
    try:
        words = shlex.split(line.text, comments=True)
    except ValueError:
        raise Broken("expected the closing quote") from None
    if not words:
        return None
    action, rest, options = words[0], words[1:], set()
    if action not in ("permit", "deny"):
        raise Broken('expected "permit" or "deny"')
    while rest and (rest[0] in _DOAS_OPTIONS or rest[0] == "setenv"):
        options.add(rest[0])
        rest = rest[rest.index("}") + 1 :] if rest[0] == "setenv" and "}" in rest else rest[1:]
    if not rest:
        raise Broken("expected an account or a :group")
    identity, rest = rest[0], rest[1:]
    stated = {}
    for word in ("as", "cmd"):
        if rest[:1] == [word] and len(rest) > 1:
            stated[word], rest = rest[1], rest[2:]
    arguments = tuple(rest[1:]) if rest[:1] == ["args"] else None
    if rest and arguments is None:
        raise Broken(f'expected the end of the rule before "{rest[0]}"')
    return DoasRule(
        permit=action == "permit",
        identity=identity,
        options=frozenset(options),
        target=stated.get("as"),
        command=stated.get("cmd"),
        arguments=arguments,
        text=" ".join(line.text.split()),
        place=line.place(),
    )


_ADMIN_RULE = re.compile(r"addAdminRule\s*\(.*?return\s*\[(?P<names>[^\]]*)\]", re.DOTALL)
_RULE = re.compile(r"addRule\s*\(\s*function\b.*?\n?\}\s*\)\s*;?", re.DOTALL)
_NAME = re.compile(r"unix-(user|group|netgroup):([^\"',\s]+)")
_GROUP = re.compile(r"isInGroup\s*\(\s*[\"']([^\"']+)[\"']\s*\)")
_USER = re.compile(r"subject\.user\s*===?\s*[\"']([^\"']+)[\"']")
_ACTION = re.compile(r"action\.id(?:\.indexOf\(|\.startsWith\(|\s*===?\s*|\.match\(/?)[\"'/]?([a-zA-Z0-9_.-]+)")


def read_polkit_rules(text: str, origin: Place) -> tuple[list[PolkitRule], list[Gap]]:
    """Return the rules in the common forms, and a gap for each that is in another."""
    rules: list[PolkitRule] = []
    gaps: list[Gap] = []
    code = re.sub(r"//[^\n]*|/\*.*?\*/", lambda found: re.sub(r"[^\n]", " ", found[0]), text, flags=re.DOTALL)
    for found in _ADMIN_RULE.finditer(code):
        place = origin.at(code.count("\n", 0, found.start()) + 1)
        names = tuple((kind, name) for kind, name in _NAME.findall(found["names"]))
        rules.append(PolkitRule(administrators=names, actions=(), groups=(), users=(), answer="administrators", place=place))
    for found in _RULE.finditer(code):
        place = origin.at(code.count("\n", 0, found.start()) + 1)
        body = found[0]
        groups, users, actions = _GROUP.findall(body), _USER.findall(body), _ACTION.findall(body)
        if "Result.YES" not in body:
            continue
        if not groups and not users and "subject" in body.partition("{")[2]:
            why = "a rule in JavaScript of a form that is not read"
            gaps.append(Gap(what="polkit rule", why=why, weakens="who may do what without authenticating", place=place))
            continue
        rules.append(
            PolkitRule(administrators=(), actions=tuple(actions), groups=tuple(groups), users=tuple(users), answer="yes", place=place)
        )
    return rules, gaps


def read_exports(text: str, origin: Place) -> list[NfsExport]:
    """Return each folder with each of its clients; options that stand before the clients hold for all of them."""
    exports: list[NfsExport] = []
    for line in lines_of(text.replace("\\\n", "  "), origin):
        words = re.findall(r'"[^"]*"\S*|\S+', line.text.partition("#")[0])
        if not words:
            continue
        common: frozenset[str] = frozenset()
        for word in words[1:]:
            if word.startswith("-"):
                common = frozenset(word[1:].split(","))
                continue
            client, _, options = word.partition("(")
            stated = frozenset(options.rstrip(")").split(",")) - {""}
            exports.append(NfsExport(path=words[0].strip('"'), client=client or "*", options=common | stated, place=line.place()))
    return exports


def read_library_folders(text: str, origin: Place) -> Iterator[SearchFolder]:
    """Yield the folders of ld.so.conf(5)."""
    for line in lines_of(text, origin):
        path = line.text.partition("#")[0].strip().partition("=")[0]
        if path.startswith("/"):
            yield SearchFolder(path=path, why="libraries are loaded from it (ld.so.conf)", place=line.place())


_PATH = re.compile(r"PATH\+?=[\"']?([^\"';\s]*)")


def read_path_lines(text: str, origin: Place) -> Iterator[SearchFolder]:
    """Yield the folders that a shell start-up file puts into PATH; a variable in one is not known and passed over."""
    for line in lines_of(text, origin):
        for found in _PATH.finditer(line.text):
            for folder in found[1].split(":"):
                if folder == "." or folder.startswith("/"):
                    yield SearchFolder(path=folder, why="it is in root's search path", place=line.place(found.start()))
