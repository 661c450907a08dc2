"""Smaller languages that say who may act as whom: doas.conf(5), polkit rules and administrators, exports(5), ld.so.conf(5), PATH lines.

Knows their syntax.  The rules of polkit are programs in JavaScript: only their common forms are read, and any other is a gap.
"""

import re
from collections.abc import Iterator

from fidelitas.facts import DoasRule, Gap, NfsExport, Place, PolkitRule, SearchFolder
from fidelitas.languages.lines import Broken, Line, Parsed, lines_of, read_lines
from fidelitas.languages.words import shell_words

__all__ = ["read_doas", "read_exports", "read_library_folders", "read_path_lines", "read_polkit_rules"]

_DOAS_OPTIONS = frozenset({"nopass", "nolog", "persist", "keepenv"})


def read_doas(text: str, origin: Place) -> Parsed[DoasRule]:
    """Return the rules of doas.conf, in their order: the last that matches counts."""
    joined = text.replace("\\\n", "  ")
    return read_lines(joined, origin, _doas_rule, what="doas.conf", weakens="doas refuses every user while its file has an error")


def _doas_rule(line: Line) -> DoasRule | None:
    """rule = ( "permit" | "deny" ) { option } identity [ "as" target ] [ "cmd" command [ "args" { argument } ] ]"""
    try:
        words = shell_words(line.text, comments=True)
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


# Where a rule begins; it ends where the next begins, at the latest.
_BEGIN = re.compile(r"addAdminRule\s*\(|addRule\s*\(\s*function\b")
_ADMINS = re.compile(r"return\s*\[")
_END = re.compile(r"\}\s{0,80}\)")
_NAME = re.compile(r"unix-(user|group|netgroup):([^\"',\s]+)")
_GROUP = re.compile(r"isInGroup\s*\(\s*[\"']([^\"']+)[\"']\s*\)")
_USER = re.compile(r"subject\.user\s*===?\s*[\"']([^\"']+)[\"']")
_ACTION = re.compile(r"action\.id(?:\.indexOf\(|\.startsWith\(|\s*===?\s*|\.match\(/?)[\"'/]?([a-zA-Z0-9_.-]+)")


def read_polkit_rules(text: str, origin: Place) -> tuple[list[PolkitRule], list[Gap]]:
    """Return the rules in the common forms, and a gap for each that is in another."""
    rules: list[PolkitRule] = []
    gaps: list[Gap] = []
    for body, place in _rule_texts(_without_comments(text), origin):
        if body.startswith("addAdminRule"):
            names = _administrators(body)
            if names is not None:
                rules.append(PolkitRule(administrators=names, actions=(), groups=(), users=(), answer="administrators", place=place))
            continue
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


def _without_comments(text: str) -> str:
    """Return a program with blanks in place of its comments; lines stay."""
    parts: list[str] = []
    at = 0
    while (found := _COMMENT.search(text, at)) is not None:
        parts.append(text[at : found.start()])
        end = text.find("\n" if found[0] == "//" else "*/", found.end())
        end = len(text) if end < 0 else end if found[0] == "//" else end + 2
        parts.append(_NOT_A_BREAK.sub(" ", text[found.start() : end]))
        at = end
    return "".join((*parts, text[at:]))


_COMMENT = re.compile(r"//|/\*")
_NOT_A_BREAK = re.compile(r"[^\n]")


def _rule_texts(code: str, origin: Place) -> Iterator[tuple[str, Place]]:
    """Yield each rule of a program, administrators' first, with its place."""
    begins = [found.start() for found in _BEGIN.finditer(code)]
    found: list[tuple[str, Place]] = []
    line, counted = 1, 0
    for begin, limit in zip(begins, [*begins[1:], len(code)], strict=False):
        line, counted = line + code.count("\n", counted, begin), begin
        end = _END.search(code, begin, limit)
        if end is not None or code.startswith("addAdminRule", begin):
            found.append((code[begin : end.end() if end is not None else limit], origin.at(line)))
    return iter(sorted(found, key=lambda one: not one[0].startswith("addAdminRule")))


def _administrators(body: str) -> tuple[tuple[str, str], ...] | None:
    """Return whom a rule names as administrators; nothing where it returns no list."""
    found = _ADMINS.search(body)
    end = body.find("]", found.end()) if found is not None else -1
    return None if found is None or end < 0 else tuple((kind, name) for kind, name in _NAME.findall(body[found.end() : end]))


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
    """Yield the folders that a shell start-up file puts into PATH; a variable in one is not known and skipped."""
    for line in lines_of(text, origin):
        for found in _PATH.finditer(line.text):
            for folder in found[1].split(":"):
                if folder == "." or folder.startswith("/"):
                    yield SearchFolder(path=folder, why="it is in root's search path", place=line.place(found.start()))
