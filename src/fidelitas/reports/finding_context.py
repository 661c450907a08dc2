"""What is shown of one finding by itself: the evidence around it, the rights that rest on it, and since when it is known."""

from collections.abc import Sequence
from datetime import datetime

from fidelitas.findings import Finding
from fidelitas.reports.numbers import counted, listed
from fidelitas.rights import SubjectRights

__all__ = ["context_lines"]

_MOST_RIGHTS = 6
_MOST_NAMES = 8


def context_lines(
    finding: Finding, rights: SubjectRights, excerpts: Sequence[Sequence[str]], since: datetime | None, surveys: int
) -> list[str]:
    """Return lines to show with a finding; `excerpts` are those of its places, `since` is when it was first seen in how many `surveys`."""
    lines = [text for place, texts in zip(finding.places, excerpts, strict=True) if texts for text in (f"{place.path}:", *texts)]
    lines += _rights(finding, rights)
    if since is not None:
        lines.append(f"first seen {since:%Y-%m-%d %H:%M} UTC ({counted(surveys, 'survey')} of this subject in the ledger)")
    return lines


def _rights(finding: Finding, rights: SubjectRights) -> list[str]:
    """Return which rights come by a line that the finding is about, and to whom."""
    at = {(place.path, place.line) for place in finding.places}
    found: dict[str, list[str]] = {}
    for holding in rights.holdings:
        if any((link.place.path, link.place.line) in at for route in holding.routes for link in route.links):
            found.setdefault(str(holding.right), []).append(str(holding.principal))
    lines = [f"gives {right} to {listed(names, _MOST_NAMES, 'more')}" for right, names in found.items()]
    return lines[:_MOST_RIGHTS] + ([f"and {len(lines) - _MOST_RIGHTS} more rights"] if len(lines) > _MOST_RIGHTS else [])
