"""PAM services: pam.conf(5), the files of /etc/pam.d.

Knows lines, controls and includes; not what a module does.
"""

import re
from collections.abc import Callable, Iterator

from fidelitas.facts import LentGroups, PamRule, Place
from fidelitas.languages.lines import lines_of

__all__ = ["read_lent_groups", "read_pam_service"]

# Services include one another; a loop ends in nothing new.
_DEEPEST = 10
_RULE = re.compile(
    r"-?(?P<kind>auth|account|password|session)\s+(?P<control>\[[^\]]*\]|\S+)\s+(?P<module>\S+)(?:\s+(?P<arguments>.*))?\Z", re.IGNORECASE
)
_BRACKETED = re.compile(r"\[((?:[^\]\\]|\\.)*)\]|(\S+)")


def read_pam_service(name: str, subject: str, text: Callable[[str], str | None]) -> tuple[PamRule, ...] | None:
    """Return the rules of a service, includes put in their place, or ``None`` where it has no file; then "other" stands for it."""
    if text(f"/etc/pam.d/{name}") is None:
        return None
    return tuple(_rules(name, subject, text, None, 0))


def read_lent_groups(text: str, origin: Place) -> Iterator[LentGroups]:
    """Yield the lines of group.conf(5): services ; terminals ; users ; times ; groups."""
    for line in lines_of(text.replace("\\\n", "  "), origin):
        fields = [one.strip() for one in line.text.partition("#")[0].split(";")]
        if len(fields) == 5:
            services, terminals, users, times, groups = fields
            names = tuple(groups.replace(",", " ").split())
            yield LentGroups(services=services, terminals=terminals, users=users, times=times, groups=names, place=line.place())


def _rules(name: str, subject: str, text: Callable[[str], str | None], kind: str | None, depth: int) -> Iterator[PamRule]:
    content = text(f"/etc/pam.d/{name}")
    if content is None or depth > _DEEPEST:
        return
    for line in lines_of(content.replace("\\\n", "  "), Place(subject=subject, path=f"/etc/pam.d/{name}")):
        shown = line.text.partition("#")[0].strip()
        if shown.lower().startswith("@include"):
            yield from _rules(shown[8:].strip().rpartition("/")[2], subject, text, kind, depth + 1)
            continue
        found = _RULE.match(shown)
        if found is None or (kind is not None and found["kind"].lower() != kind):
            continue
        control = found["control"].lower()
        if control in ("include", "substack"):
            yield from _rules(found["module"].rpartition("/")[2], subject, text, found["kind"].lower(), depth + 1)
            continue
        arguments = tuple(one[1] or one[2] for one in _BRACKETED.finditer(found["arguments"] or ""))
        module = found["module"].rpartition("/")[2]
        yield PamRule(kind=found["kind"].lower(), control=control, module=module, arguments=arguments, place=line.place())
