"""Since when a link holds and by whose doing, where the logs tell: in a few words for a row, in a line, and as part of JSON documents."""

from collections.abc import Mapping
from types import MappingProxyType
from typing import Any

from fidelitas.reports.places import place_document
from fidelitas.rights import Holding, Link, Principal, PrincipalKind
from fidelitas.usage import Deed, Grants

__all__ = ["UNTOLD", "Provenance", "since_document", "since_in_brief", "since_line"]

# What the logs of each host tell, by its name.
Provenance = Mapping[str, Grants]
# Where no log is read.
UNTOLD: Provenance = MappingProxyType({})
_ACCOUNT_FILES = frozenset({"/etc/passwd", "/etc/group", "/etc/shadow"})


def deed_behind(link: Link, grants: Grants | None) -> Deed | None:
    """Return the log event that gave what a link rests on: a membership, an edit of the policy, or the account itself."""
    if grants is None:
        return None
    if isinstance(link.target, Principal) and link.target.kind is PrincipalKind.GROUP:
        return grants.of_membership(link.target.name.removeprefix("%"), link.source.name) or grants.accounts.get(link.source.name)
    return None if link.place.path in _ACCOUNT_FILES else grants.of_file(link.place.path)


def since_line(link: Link, grants: Grants | None) -> str:
    """Return since when and by whom, with the log line; nothing where no log tells."""
    deed = deed_behind(link, grants)
    if deed is None or deed.event.at is None:
        return ""
    event = deed.event
    what = event.reason or f"{event.program} {event.command}"
    sure = f", {deed.ground.confidence}: {deed.ground.value}" if deed.persons else ""
    return f"since {event.at:%Y-%m-%d %H:%M %Z} by {_by(deed)}{sure}; {what} ({event.place.in_file()})"


def _by(deed: Deed) -> str:
    return " or ".join(deed.persons) or deed.event.account or "nobody known"


def since_in_brief(holding: Holding, grants: Grants | None) -> str:
    """Return the latest change that the strongest route rests on, as date and doer."""
    deeds = [deed for link in holding.routes[0].links if (deed := deed_behind(link, grants)) is not None and deed.event.at is not None]
    latest = max(deeds, key=lambda deed: (deed.event.at is not None, deed.event.at), default=None)
    return "" if latest is None else f"{latest.event.at:%Y-%m-%d} {_by(latest)}"


def since_document(link: Link, grants: Grants | None) -> dict[str, Any] | None:
    """Return the JSON form of it."""
    deed = deed_behind(link, grants)
    if deed is None:
        return None
    return {
        "time": deed.event.at.isoformat() if deed.event.at is not None else None,
        "persons": list(deed.persons),
        "confidence": deed.ground.confidence,
        "what": deed.event.reason or deed.event.command,
        "place": place_document(deed.event.place),
    }
