"""Since when a link holds and by whose doing, where the logs tell: in a few words for a row, in a line, and as part of JSON documents."""

from collections.abc import Mapping
from types import MappingProxyType
from typing import Any

from fidelitas.reports.places import place_document
from fidelitas.rights import Holding, Link, Principal, PrincipalKind
from fidelitas.usage import AttributedEvent, Grants

__all__ = ["UNTOLD", "Provenance", "since_document", "since_in_brief", "since_line"]

# What the logs of each host tell, by its name.
Provenance = Mapping[str, Grants]
# Where no log is read.
UNTOLD: Provenance = MappingProxyType({})
_ACCOUNT_FILES = frozenset({"/etc/passwd", "/etc/group", "/etc/shadow"})


def attributed_event_behind(link: Link, grants: Grants | None) -> AttributedEvent | None:
    """Return the log event that gave what a link rests on: a membership, an edit of the policy, or the account itself."""
    if grants is None:
        return None
    if isinstance(link.target, Principal) and link.target.kind is PrincipalKind.GROUP:
        return grants.of_membership(link.target.name.removeprefix("%"), link.source.name) or grants.accounts.get(link.source.name)
    return None if link.place.path in _ACCOUNT_FILES else grants.of_file(link.place.path)


def since_line(link: Link, grants: Grants | None) -> str:
    """Return since when and by whom, with the log line; nothing where no log tells."""
    attributed = attributed_event_behind(link, grants)
    if attributed is None or attributed.event.at is None:
        return ""
    event = attributed.event
    what = event.reason or f"{event.program} {event.command}"
    sure = f", {attributed.basis.confidence}: {attributed.basis.value}" if attributed.persons else ""
    return f"since {event.at:%Y-%m-%d %H:%M %Z} by {_by(attributed)}{sure}; {what} ({event.place.in_file()})"


def _by(attributed: AttributedEvent) -> str:
    return " or ".join(attributed.persons) or attributed.event.account or "nobody known"


def since_in_brief(holding: Holding, grants: Grants | None) -> str:
    """Return the latest change that the strongest route rests on, as date and doer."""
    attributed_events = [
        attributed
        for link in holding.routes[0].links
        if (attributed := attributed_event_behind(link, grants)) is not None and attributed.event.at is not None
    ]
    latest = max(attributed_events, key=lambda attributed: (attributed.event.at is not None, attributed.event.at), default=None)
    return "" if latest is None else f"{latest.event.at:%Y-%m-%d} {_by(latest)}"


def since_document(link: Link, grants: Grants | None) -> dict[str, Any] | None:
    """Return the JSON form of it."""
    attributed = attributed_event_behind(link, grants)
    if attributed is None:
        return None
    return {
        "time": attributed.event.at.isoformat() if attributed.event.at is not None else None,
        "persons": list(attributed.persons),
        "confidence": attributed.basis.confidence,
        "what": attributed.event.reason or attributed.event.command,
        "place": place_document(attributed.event.place),
    }
