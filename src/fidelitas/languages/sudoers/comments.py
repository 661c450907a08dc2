"""Rules that are commented out: what a reader of the file may take for a rule, and sudo does not."""

import re
from collections.abc import Iterator

from fidelitas.facts import Place
from fidelitas.languages.sudoers.parser import Statements, parse_policy

__all__ = ["commented_rules"]

_COMMENT = re.compile(r"\s*#+(?!#)[ \t]*(?!include|includedir)(\S.*=.*\S)\s*")
# A comment as long as that is no rule that someone switched off.
_LONGEST = 1000


def commented_rules(text: str) -> Iterator[tuple[int, str]]:
    """Yield the lines of a policy that would be rules without their comment sign, each with its number."""
    for number, line in enumerate(text.split("\n"), 1):
        found = _COMMENT.fullmatch(line) if len(line) <= _LONGEST else None
        if found is not None and _is_rule(found[1]):
            yield number, found[1]


def _is_rule(text: str) -> bool:
    into = Statements()
    parse_policy(text + "\n", Place("", ""), lambda *_: None, into)
    return bool(into.rules) and not into.gaps and not into.visudo_refusals
