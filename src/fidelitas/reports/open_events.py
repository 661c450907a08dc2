"""Events in the Open Cybersecurity Schema Framework (OCSF 1.2.0, https://schema.ocsf.io): one JSON object a line, for log collectors.

Knows the frame of an event: class, activity, severity, time, product, device; what is within it is stated by those who make events.
"""

import json
from collections.abc import Mapping
from typing import Any, NamedTuple

from fidelitas import __version__
from fidelitas.findings import Severity
from fidelitas.text import escape_control

__all__ = ["OCSF_VERSION", "Activity", "event", "line"]

OCSF_VERSION = "1.2.0"
_SEVERITIES = {Severity.INFO: 1, Severity.LOW: 2, Severity.MEDIUM: 3, Severity.HIGH: 4, Severity.CRITICAL: 5}
_NAMES = {1: "Informational", 2: "Low", 3: "Medium", 4: "High", 5: "Critical"}
_MILLISECONDS = 1000


class Activity(NamedTuple):
    """What happened, in the numbers and names of OCSF: an activity of a class."""

    class_uid: int
    class_name: str
    activity_id: int
    activity_name: str

    @property
    def category_uid(self) -> int:
        """The category of the class, which is its thousands."""
        return self.class_uid // 1000

    @property
    def type_uid(self) -> int:
        """The number of the class and the activity together."""
        return self.class_uid * 100 + self.activity_id


def event(
    activity: Activity, severity: Severity, seconds: float | None, host: str, message: str, stated: Mapping[str, Any]
) -> dict[str, Any]:
    """Return an event; `seconds` since 1970, ``None`` where the time is not known, which OCSF cannot say: the time is 0 then."""
    number = _SEVERITIES[severity]
    return {
        "metadata": {
            "version": OCSF_VERSION,
            "profiles": ["host"],  # which adds the device and the actor to classes that lack them
            "product": {"name": "Fidelitas", "vendor_name": "Fidelitas", "version": __version__},
        },
        "category_uid": activity.category_uid,
        "class_uid": activity.class_uid,
        "class_name": activity.class_name,
        "activity_id": activity.activity_id,
        "activity_name": activity.activity_name,
        "type_uid": activity.type_uid,
        "type_name": f"{activity.class_name}: {activity.activity_name}",
        "severity_id": number,
        "severity": _NAMES[number],
        "time": int(seconds * _MILLISECONDS) if seconds is not None else 0,
        "message": message,
        "device": {"hostname": host, "type_id": 0},
        **stated,
    }


def line(one: Mapping[str, Any]) -> str:
    """Return an event as a line, ASCII only; control characters and what is no text are written out, and what is empty is left out."""
    return json.dumps(_plain(one)) + "\n"


def _plain(value: Any) -> Any:
    if isinstance(value, str):
        return escape_control(value)
    if isinstance(value, Mapping):
        inner = {key: _plain(one) for key, one in value.items()}
        return {key: one for key, one in inner.items() if one not in (None, "", [], {})}
    return [_plain(one) for one in value] if isinstance(value, list | tuple) else value
