"""The estate as it was at the two surveys before, a month apart: today's evidence with what has changed since then undone.

Each change stands in the table `_UNDONE`: where it is, and how it was before.  Earlier evidence has no logs: those of today tell it all.
"""

import io
import re
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from fidelitas.demo.people import Person
from fidelitas.evidence import Bundle, make_bundle, read_bundle

__all__ = ["SURVEYS", "PlantedChange", "earlier_evidence", "planted_changes", "planted_notices"]

# When the earlier surveys were, the oldest first.
SURVEYS = (datetime(2026, 9, 20, 6, 0, tzinfo=UTC), datetime(2026, 10, 20, 6, 0, tzinfo=UTC))
_NEW_SUBJECTS = frozenset({"avocet"})  # not surveyed up to then


class PlantedChange(Struct, frozen=True):
    """What must be shown as changed since the survey before: of a right, an account or a subject."""

    change: str
    subject: str
    what: str  # a holder, an account, or the subject itself
    right: str = ""


Edit = Callable[[str], str]


class _Undo(Struct, frozen=True):
    """How a file or a listing was until a survey; `edit` returns nothing for a file that was not there, `mode` is what it had."""

    until: datetime
    subject: str
    where: str
    edit: Edit | None = None
    absent: bool = False
    mode: int | None = None


def _without(pattern: str) -> Edit:
    """Return the edit that takes out the lines with a pattern in them."""
    return lambda text: "".join(line for line in text.splitlines(keepends=True) if not re.search(pattern, line))


def _with(old: str, new: str) -> Edit:
    return lambda text: text.replace(old, new, 1)


def _undone(team: Mapping[str, Sequence[Person]]) -> list[_Undo]:
    """Return what is to be undone for the earlier surveys."""
    first, last = SURVEYS
    technicians, scientists, administrators = ([one.name for one in team[name]] for name in ("technicians", "scientists", "administrators"))
    former, retired = team["operators"][1].name, scientists[3]
    dataops = ",".join(scientists[:3])
    return [
        _Undo(last, "tern", "/etc/group", _with(f"docker:x:3006:{technicians[3]}", "docker:x:3006:")),
        _Undo(last, "tern", "/etc/group", _with(f"dataops:x:3001:{dataops}", f"dataops:x:3001:{dataops},{retired}")),
        _Undo(last, "tern", "/etc/gshadow", _with(f"dataops:{{locked}}::{dataops}", f"dataops:{{locked}}::{dataops},{retired}")),
        _Undo(last, "tern", "/etc/gshadow", _with(f"docker:{{locked}}::{technicians[3]}", "docker:{locked}::")),
        _Undo(last, "tern", "/etc/sudoers.d/60-storm", absent=True),
        _Undo(first, "tern", "/opt/tide/rotate.sh", mode=0o755),
        _Undo(last, "curlew", "/etc/passwd", _without("^sysop:")),
        _Undo(last, "curlew", "/etc/shadow", _without("^sysop:")),
        _Undo(first, "curlew", "/etc/sudoers.local", _with("(ALL) NOPASSWD: ALL", "(ALL) ALL")),
        _Undo(last, "dunlin", "/etc/sudoers.d/30-calibration", _with("GAUGES=(ALL) NOPASSWD: ALL", "GAUGES=(ALL) ALL")),
        _Undo(last, "dunlin", "/etc/sudoers.d/30-calibration", _with('calibrate-gauge ""', "calibrate-gauge --zero")),
        _Undo(last, "tides-db", "memberships", _without(f'"role": "dba", "member": "{administrators[1]}"')),
        _Undo(last, "godwit", "local-accounts", _without('"name": "werkstatt"')),
        _Undo(last, "godwit", "local-members", _without("werkstatt")),
        _Undo(last, "saltmarsh-ad", "entries", _with("userAccountControl: 514", "userAccountControl: 512")),
        _Undo(
            last,
            "saltmarsh-ad",
            "entries",
            _with(
                f"member: cn={former},dc=saltmarsh",
                f"member: cn={technicians[4]},dc=saltmarsh,dc=example\nmember: cn={former},dc=saltmarsh",
            ),
        ),
    ]


def planted_changes(team: Mapping[str, Sequence[Person]]) -> list[PlantedChange]:
    """Return what must be shown as changed since the survey before."""
    technicians, scientists, administrators = ([one.name for one in team[name]] for name in ("technicians", "scientists", "administrators"))
    return [
        PlantedChange("gained", "tern", technicians[0], "root"),
        PlantedChange("route added", "tern", technicians[3], "root"),
        PlantedChange("lost", "tern", scientists[3], "root"),
        PlantedChange("gained", "curlew", "sysop", "root"),
        PlantedChange("eased", "dunlin", "%calibration", "root"),
        PlantedChange("replaced", "dunlin", technicians[5], 'command:/usr/local/sbin/calibrate-gauge ""'),
        PlantedChange("gained", "tides-db", administrators[1], "db-superuser"),
        PlantedChange("gained", "godwit", "werkstatt", "admin"),
        PlantedChange("lost", "saltmarsh-ad", technicians[4], "directory-admin"),
        PlantedChange("account new", "curlew", "sysop"),
        PlantedChange("account new", "godwit", "werkstatt"),
        PlantedChange("account disabled", "saltmarsh-ad", team["operators"][1].name),
        PlantedChange("subject new", "avocet", "avocet"),
    ]


def planted_notices() -> list[PlantedChange]:
    """Return what the charter and the repository of the policy must be shown to say."""
    return [
        PlantedChange("lapsed", "charter.toml", "warrant 5"),
        PlantedChange("lapses soon", "charter.toml", "exception 1"),
        PlantedChange("edited locally", "tern", "/etc/sudoers.d/60-storm"),
    ]


def earlier_evidence(bundles: Sequence[Bundle], team: Mapping[str, Sequence[Person]]) -> list[tuple[datetime, list[Bundle]]]:
    """Return the earlier surveys, the oldest first: when each was, and its evidence."""
    undone = _undone(team)
    return [(at, [_as_of(one, at, undone) for one in bundles if one.subject not in _NEW_SUBJECTS]) for at in SURVEYS]


def _as_of(bundle: Bundle, at: datetime, undone: Sequence[_Undo]) -> Bundle:
    files, listings, items = dict(bundle.files), dict(bundle.listings), {item.path: item for item in bundle.items}
    for undo in undone:
        if undo.subject != bundle.subject or at > undo.until:
            continue
        if undo.absent:
            files.pop(undo.where, None)
            items.pop(undo.where, None)
        elif undo.edit is not None:
            held = files if undo.where in files else listings
            held[undo.where] = undo.edit(held[undo.where].decode()).encode()
        if undo.mode is not None:
            items[undo.where] = msgspec.structs.replace(items[undo.where], mode=undo.mode)
    kept = [msgspec.structs.replace(item, mtime=int(at.timestamp())) for item in items.values() if not item.path.startswith("/var/log/")]
    manifest = replace(bundle.manifest, taken=at, items=tuple(kept), logs=())
    return read_bundle(io.BytesIO(make_bundle(manifest, files, listings)))
