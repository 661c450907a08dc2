"""The configuration file of an OpenLDAP server, as far as it says who may write: slapd.conf(5).

What stands before the first database holds for all of them, after their own rules.
"""

import re
from collections.abc import Iterator

from msgspec import Struct, field

from fidelitas.facts import Gap, Place, ServerRule, ServerRules
from fidelitas.languages.ldap.server_rules import server_rule, unquoted
from fidelitas.masking.server_configuration import name_of, whole_lines

__all__ = ["read_server_configuration"]

# What such files define has no rules in it.
_SCHEMA = re.compile(r"schema", re.IGNORECASE)


class _Database(Struct):
    place: Place
    general: bool = False
    root: str = ""
    suffixes: list[str] = field(default_factory=list)
    rules: list[ServerRule] = field(default_factory=list)


def read_server_configuration(text: str, origin: Place) -> tuple[tuple[ServerRules, ...], tuple[Gap, ...]]:
    """Return the access rules of each database of a server, and files that it includes and that nobody has handed in."""
    gaps: list[Gap] = []
    databases = [_Database(origin, general=True)]
    for number, name, rest in _directives(text):
        place, database = origin.at(number), databases[-1]
        if name == "database":
            databases.append(_Database(place, general=rest.strip().lower() == "frontend"))
        elif name == "suffix":
            database.suffixes.append(unquoted(rest.strip()))
        elif name == "rootdn":
            database.root, database.place = unquoted(rest.strip()), place
        elif name == "access":
            database.rules.append(server_rule(rest, place))
        elif name == "include" and not _SCHEMA.search(rest):
            why = f"the configuration of the server includes {rest.strip()}, which was not handed in"
            gaps.append(Gap(what="access rules of the server", why=why, weakens="who may write to the directory", place=place))
    servers = tuple(
        ServerRules(suffixes=tuple(one.suffixes), root=one.root, general=one.general, rules=tuple(one.rules), place=one.place)
        for one in databases
        if one.rules or one.root
    )
    return servers, tuple(gaps)


def _directives(text: str) -> Iterator[tuple[int, str, str]]:
    """Yield the directives: the number of the line, the name and what comes after it."""
    for begin, _, whole in whole_lines(text.split("\n")):
        name = name_of(whole)
        yield begin + 1, name, whole[len(name) :]
