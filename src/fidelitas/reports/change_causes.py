"""Why a right was gained or lost, in words: which membership, rule, key, grant or file changed, from what to what, and by whose doing."""

from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any

from msgspec import Struct, field

from fidelitas.changes import Cause, CauseKind
from fidelitas.reports.documents import link_document
from fidelitas.reports.provenance import record_behind
from fidelitas.reports.sentences import holder
from fidelitas.rights import Holding, Link, Mechanism, Principal, PrincipalKind
from fidelitas.text import shortened
from fidelitas.usage import AttributedEvent, Grants

__all__ = ["Window", "cause_document", "cause_words", "doer"]


class Window(Struct, frozen=True):
    """The time between two states, subject by subject, and what the logs of each subject say of how its rights came about."""

    provenance: Mapping[str, Grants] = field(default_factory=dict)
    begins: Mapping[str, datetime] = field(default_factory=dict)
    ends: Mapping[str, datetime] = field(default_factory=dict)

    def has(self, subject: str, at: datetime | None) -> bool:
        """Return whether something happened in between."""
        begins, ends = self.begins.get(subject), self.ends.get(subject)
        return at is not None and (begins is None or at > begins) and (ends is None or at <= ends)


# What is said of a link that was added and of one that was removed, by its mechanism; {} is its clause.
_ADDED, _REMOVED = "new: {}", "no longer: {}"
_WORDS: Mapping[Mechanism, tuple[str, str]] = {
    Mechanism.SUDO: ("rule added: {}", "rule removed: {}"),
    Mechanism.DOAS: ("rule added: {}", "rule removed: {}"),
    Mechanism.SSH_KEY: ("key added: {}", "key removed: {}"),
    Mechanism.GRANT: ("granted: {}", "revoked: {}"),
    Mechanism.ROLE: ("granted: {}", "revoked: {}"),
    Mechanism.PRIVILEGE: ("granted: {}", "revoked: {}"),
}


def cause_words(cause: Cause, holding: Holding, *, place: bool = True, turned: bool = True) -> str:
    """Return a cause in a line, with its place unless that is not wanted; whose link it is where that is not the holder's own.

    Where nothing has `turned` from one state to another, as between two hosts, it is what one side has.
    """
    link = cause.link
    whose = "" if link.source == holding.principal else f"{holder(link.source)}: "
    where = link.place.in_file() if link.place.subject == holding.right.subject else str(link.place)
    return f"{whose}{_what(cause) if turned else _difference(cause)}" + (f" ({where})" if place else "")


def _what(cause: Cause) -> str:
    before, after = cause.before, cause.after
    if before is not None and after is not None:
        old, new = _stated(before), _stated(after)
        return f"changed from {old} to {new}" if old != new else f"changed: {new}"
    link = cause.link
    group = _group(link)
    if group is not None:
        return f"added to group {group}" if cause.kind is CauseKind.ADDED else f"removed from group {group}"
    added, removed = _WORDS.get(link.mechanism, (_ADDED, _REMOVED))
    return (added if cause.kind is CauseKind.ADDED else removed).format(_stated(link))


def _difference(cause: Cause) -> str:
    before, after = cause.before, cause.after
    if before is None or after is None:
        group = _group(cause.link)
        return f"in group {group}" if group is not None else _stated(cause.link)
    return f"{_stated(before)} / {_stated(after)}"


def _stated(link: Link) -> str:
    return f"`{shortened(link.quote)}`" if link.quote else link.because


def _group(link: Link) -> str | None:
    target = link.target
    grouped = isinstance(target, Principal) and target.kind is PrincipalKind.GROUP and link.mechanism is Mechanism.MEMBERSHIP
    return target.name if grouped and isinstance(target, Principal) else None


def doer(causes: Iterable[Cause], window: Window) -> str:
    """Return by whose doing, and when, by the logs of the time in between; nothing where they do not say."""
    records = [record for cause in causes if (record := _record(cause, window)) is not None]
    latest = max(records, key=lambda record: (record.event.at is not None, record.event.at), default=None)
    return "" if latest is None or latest.event.at is None else f"{latest.label}, {latest.event.at:%Y-%m-%d}"


def _record(cause: Cause, window: Window) -> AttributedEvent | None:
    link = cause.link
    grants = window.provenance.get(link.place.subject)
    if grants is None:
        return None
    group = _group(link)
    removed = cause.kind is CauseKind.REMOVED and group is not None
    record = grants.of_removal(group or "", link.source.name) if removed else record_behind(link, grants)
    return record if record is not None and window.has(link.place.subject, record.event.at) else None


def cause_document(cause: Cause, window: Window) -> dict[str, Any]:
    """Return the JSON form of a cause."""
    record = _record(cause, window)
    return {
        "change": cause.kind.value,
        "before": link_document(cause.before) if cause.before is not None else None,
        "after": link_document(cause.after) if cause.after is not None else None,
        "by": list(record.persons) or [record.event.account] if record is not None else [],
        "at": record.event.at.isoformat() if record is not None and record.event.at is not None else None,
    }
