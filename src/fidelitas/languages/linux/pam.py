"""PAM services: pam.conf(5), the files of /etc/pam.d.

Knows lines, controls and includes; not what a module does.
"""

import re
from collections.abc import Callable, Iterator
from itertools import islice

from fidelitas.facts import LentGroups, PamRule, PamTask, Place
from fidelitas.languages.lines import lines_of

__all__ = ["read_lent_groups", "read_pam_service"]

# Services include one another; a loop ends in nothing new.
_DEEPEST = 10
# Files that include one another several times multiply; no service has so many rules.
_MOST_RULES = 5000
_RULE = re.compile(
    r"-?(?P<kind>auth|account|password|session)\s+(?P<control>\[[^\]]*\]|\S+)\s+(?P<module>\S+)(?:\s+(?P<arguments>.*))?\Z", re.IGNORECASE
)
_BRACKETED = re.compile(r"\[((?:[^\]\\]|\\.)*)\]")
_WORD = re.compile(r"\s*(\S+)")


def read_pam_service(name: str, subject: str, text: Callable[[str], str | None]) -> tuple[PamRule, ...] | None:
    """Return the rules of a service, includes put in their place, or ``None`` where it has no file; then "other" stands for it."""
    if text(f"/etc/pam.d/{name}") is None:
        return None
    return tuple(islice(_rules(name, subject, text, None, ()), _MOST_RULES))


def read_lent_groups(text: str, origin: Place) -> Iterator[LentGroups]:
    """Yield the lines of group.conf(5): services ; terminals ; users ; times ; groups."""
    for line in lines_of(text.replace("\\\n", "  "), origin):
        fields = [one.strip() for one in line.text.partition("#")[0].split(";")]
        if len(fields) == 5:
            services, terminals, users, times, groups = fields
            names = tuple(groups.replace(",", " ").split())
            yield LentGroups(services=services, terminals=terminals, users=users, times=times, groups=names, place=line.place())


def _arguments(text: str) -> Iterator[str]:
    """Yield the arguments of a module: words, or what is in brackets, in which a bracket that closes has a backslash."""
    at, brackets = 0, True
    while (word := _WORD.match(text, at)) is not None:
        bracketed = _BRACKETED.match(text, word.start(1)) if brackets and text[word.start(1)] == "[" else None
        if text[word.start(1)] == "[" and bracketed is None:
            brackets = False  # none is closed from here on
        yield (bracketed or word)[1]
        at = (bracketed or word).end()


def _rules(name: str, subject: str, text: Callable[[str], str | None], kind: str | None, outer: tuple[str, ...]) -> Iterator[PamRule]:
    content = text(f"/etc/pam.d/{name}")
    if content is None or len(outer) > _DEEPEST or name in outer:
        return
    outer = (*outer, name)
    for line in lines_of(content.replace("\\\n", "  "), Place(subject=subject, path=f"/etc/pam.d/{name}")):
        shown = line.text.partition("#")[0].strip()
        if shown.lower().startswith("@include"):
            yield from _rules(shown[8:].strip().rpartition("/")[2], subject, text, kind, outer)
            continue
        found = _RULE.match(shown)
        if found is None or (kind is not None and found["kind"].lower() != kind):
            continue
        control = found["control"].lower()
        if control in ("include", "substack"):
            yield from _rules(found["module"].rpartition("/")[2], subject, text, found["kind"].lower(), outer)
            continue
        arguments = tuple(_arguments(found["arguments"] or ""))
        module = found["module"].rpartition("/")[2]
        yield PamRule(task=PamTask(found["kind"].lower()), control=control, module=module, arguments=arguments, place=line.place())
