"""sshd_config(5): keywords with arguments, Match blocks, includes.

Knows the syntax and which Match blocks a line stands in; not who matches.  Of two lines for one keyword sshd takes the first, so the order
is kept.
"""

import re
from collections.abc import Callable, Iterator, Sequence
from fnmatch import fnmatchcase

from msgspec import Struct, field

from fidelitas.facts import Gap, Place, SshdSetting
from fidelitas.languages.lines import lines_of

__all__ = ["read_sshd"]

# sshd gives up beyond that (servconf.c, SERVCONF_MAX_DEPTH).
_DEEPEST = 16
_HEAD = re.compile(r"\s*([A-Za-z]+)(?:\s*=\s*|\s+|$)")
_WORD = re.compile(r'"((?:[^"\\]|\\.)*)"|\'((?:[^\'\\]|\\.)*)\'|(#.*)|([^\s"\']\S*)')
_CRITERIA = frozenset(
    {"user", "group", "host", "localaddress", "localport", "rdomain", "address", "invalid-user", "version", "tagged", "all"}
)
_ALONE = frozenset({"all", "invalid-user", "canonical", "final"})

Matches = tuple[tuple[str, str], ...]


class _Reading(Struct):
    text: Callable[[str], str | None]
    names: Callable[[str], Sequence[str]]
    subject: str
    settings: list[SshdSetting] = field(default_factory=list)
    gaps: list[Gap] = field(default_factory=list)


def read_sshd(
    path: str, subject: str, text: Callable[[str], str | None], names: Callable[[str], Sequence[str]]
) -> tuple[tuple[SshdSetting, ...], tuple[Gap, ...]]:
    """Return the settings that a file and what it includes state; `text` gives a file's content, `names` the names in a folder."""
    reading = _Reading(text, names, subject)
    _file(reading, path, (), 0)
    return tuple(reading.settings), tuple(reading.gaps)


def _file(reading: _Reading, path: str, outer: Matches, depth: int) -> None:
    """file = { setting | include | match }; a Match ends with the file that it stands in"""
    content = reading.text(path)
    if content is None:
        return
    matches = outer
    for line in lines_of(content, Place(subject=reading.subject, path=path)):
        words = _words(line.text)
        if not words:
            continue
        keyword, *arguments = words
        keyword = keyword.lower()
        if keyword == "match":
            inner, fault = _match(arguments)
            matches = (*outer, *inner)
            if fault:
                reading.gaps.append(_gap(fault, line.place()))
        elif keyword == "include":
            if arguments:  # what is read so can be written by others
                reading.settings.append(SshdSetting(keyword=keyword, arguments=tuple(arguments), matches=matches, place=line.place()))
            for pattern in arguments:
                _include(reading, pattern, matches, depth, line.place())
        elif keyword == "forcecommand" and arguments:  # the rest of the line as it stands, comments and all
            head = _HEAD.match(line.text)
            raw = line.text[head.end() if head else 0 :].strip()
            reading.settings.append(SshdSetting(keyword=keyword, arguments=(raw,), matches=matches, place=line.place()))
        elif arguments:
            reading.settings.append(SshdSetting(keyword=keyword, arguments=tuple(arguments), matches=matches, place=line.place()))
        else:
            reading.gaps.append(_gap(f'"{keyword}" has no argument: sshd does not start with such a file', line.place()))


def _words(text: str) -> list[str]:
    """line = keyword ( blanks | "=" ) argument { blanks argument } [ "#" comment ]"""
    head = _HEAD.match(text)
    if head is None:
        return []
    words = [head[1]]
    for found in _WORD.finditer(text, head.end()):
        if found[3] is not None:
            break
        words.append(next(part for part in (found[1], found[2], found[4]) if part is not None))
    return words


def _match(arguments: list[str]) -> tuple[Matches, str]:
    """match = criterion patterns { criterion patterns } | "all"; one that is not known matches nothing as far as we can tell"""
    found: list[tuple[str, str]] = []
    words: Iterator[str] = iter([part for word in arguments for part in _criterion(word)])
    for word in words:
        name = word.lower()
        if name in _ALONE:
            found.append((name, ""))
        elif name in _CRITERIA:
            found.append((name, next(words, "")))
        else:
            return ((name, ""),), f'the criterion "{word}" of Match is not known'
    return tuple(found), ""


def _criterion(word: str) -> list[str]:
    name, equals, value = word.partition("=")
    return [name, value] if equals and name.lower() in _CRITERIA else [word]


def _include(reading: _Reading, pattern: str, matches: Matches, depth: int, place: Place) -> None:
    if depth >= _DEEPEST:
        reading.gaps.append(_gap("too many levels of includes", place))
        return
    full = pattern if pattern.startswith("/") else f"/etc/ssh/{pattern}"
    folder, _, base = full.rpartition("/")
    for name in sorted(reading.names(folder)):
        if fnmatchcase(name, base) and (not name.startswith(".") or base.startswith(".")):
            _file(reading, f"{folder}/{name}", matches, depth + 1)


def _gap(why: str, place: Place) -> Gap:
    return Gap(what="sshd_config", why=why, weakens="how accounts can log in over SSH", place=place)
