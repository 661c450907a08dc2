"""Since when a link holds and by whose doing, where the logs tell: in a few words for a row, in a line, and as part of JSON documents."""

from collections.abc import Mapping
from types import MappingProxyType
from typing import Any

from fidelitas.reports.places import place_document
from fidelitas.rights import Link, Principal, PrincipalKind, Route
from fidelitas.text import shortened
from fidelitas.usage import AttributedEvent, Grants

__all__ = ["UNTOLD", "Provenance", "record_behind", "since_document", "since_in_brief", "since_line"]

# What the logs of each host tell, by its name.
Provenance = Mapping[str, Grants]
# Where no log is read.
UNTOLD: Provenance = MappingProxyType({})
_ACCOUNT_FILES = frozenset({"/etc/passwd", "/etc/group", "/etc/shadow"})


def record_behind(link: Link, grants: Grants | None) -> AttributedEvent | None:
    """Return the log event that gave what a link rests on: a membership, an edit of the policy, or the account itself."""
    if grants is None:
        return None
    if isinstance(link.target, Principal) and link.target.kind is PrincipalKind.GROUP:
        return grants.of_membership(link.target.name.removeprefix("%"), link.source.name) or grants.accounts.get(link.source.name)
    return None if link.place.path in _ACCOUNT_FILES else grants.of_file(link.place.path)


def since_line(link: Link, grants: Grants | None) -> str:
    """Return since when and by whom, with the log line; nothing where no log tells."""
    record = record_behind(link, grants)
    if record is None or record.event.at is None:
        return ""
    event = record.event
    what = event.reason or f"{event.program} {shortened(event.command)}"
    sure = f", {record.basis.confidence}: {record.basis.value}" if record.persons else ""
    return f"since {event.at:%Y-%m-%d %H:%M %Z} by {_by(record)}{sure}; {what} ({event.place.in_file()})"


def _by(record: AttributedEvent) -> str:
    return " or ".join(record.persons) or record.event.account or "nobody known"


def since_in_brief(route: Route, grants: Grants | None) -> str:
    """Return the latest change that a route rests on, as date and doer."""
    records = [record for link in route.links if (record := record_behind(link, grants)) is not None and record.event.at is not None]
    latest = max(records, key=lambda record: (record.event.at is not None, record.event.at), default=None)
    return "" if latest is None else f"{latest.event.at:%Y-%m-%d} {_by(latest)}"


def since_document(link: Link, grants: Grants | None) -> dict[str, Any] | None:
    """Return the JSON form of it."""
    record = record_behind(link, grants)
    if record is None:
        return None
    return {
        "time": record.event.at.isoformat() if record.event.at is not None else None,
        "persons": list(record.persons),
        "confidence": record.basis.confidence,
        "what": record.event.reason or record.event.command,
        "place": place_document(record.event.place),
    }
