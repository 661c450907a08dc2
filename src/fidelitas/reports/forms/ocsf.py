"""What is wrong, as Detection Findings of OCSF: one JSON object a line."""

from datetime import UTC, datetime
from typing import Any

from fidelitas.errors import RequestError
from fidelitas.reports.forms.screen import Screen
from fidelitas.reports.issue import Issue, Verdict
from fidelitas.reports.open_events import Activity, event, line
from fidelitas.reports.report import Report
from fidelitas.text import Place

__all__ = ["render"]

_FINDING = Activity(2004, "Detection Finding", 1, "Create")
_NEW, _SUPPRESSED = (1, "New"), (3, "Suppressed")
_REGULAR_FILE = 1
_SHOWN = frozenset({Verdict.FAILED, Verdict.ACCEPTED})


def render(report: Report, screen: Screen) -> str:  # noqa: ARG001 as every form
    """Return a line for each thing that is wrong or accepted; raises `RequestError` for a report that is not about such things."""
    if report.issues is None:
        raise RequestError("this answer has no form of events", hint="findings, changes, charter check and usage have.")
    now = datetime.now(UTC).timestamp()
    return "".join(line(_finding(one, now)) for one in report.issues() if one.verdict in _SHOWN)


def _finding(issue: Issue, now: float) -> dict[str, Any]:
    status, status_name = _SUPPRESSED if issue.verdict is Verdict.ACCEPTED else _NEW
    stated = {
        "status_id": status,
        "status": status_name,
        "comment": issue.accepted,
        "finding_info": {
            "uid": issue.key,
            "title": issue.message,
            "desc": issue.rule.why,
            "types": [issue.rule.name],
            "analytic": {"type_id": 1, "type": "Rule", "name": issue.rule.name, "desc": issue.rule.title},
        },
        "remediation": {"desc": issue.rule.advice} if issue.rule.advice else None,
        "resources": [{"name": issue.subject, "type": "subject"}],
        "evidences": [_evidence(place, issue.quote if not number else None) for number, place in enumerate(issue.places)],
    }
    return event(_FINDING, issue.severity, now, issue.subject, issue.message, stated)


def _evidence(place: Place, text: str | None) -> dict[str, Any]:
    name = place.path.rstrip("/").rpartition("/")[2] or place.path
    return {
        "file": {"name": name, "path": place.path, "type_id": _REGULAR_FILE},
        "data": {"subject": place.subject, "line": place.line, "column": place.column, "text": text},
    }
