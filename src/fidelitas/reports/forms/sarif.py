"""SARIF 2.1.0 (OASIS): what code hosts and build servers show beside the lines that it is about.

A file of a subject is ``SUBJECT/path``; the key of a finding is its fingerprint, and what a charter accepts is suppressed with its reason.
"""

import json
from collections.abc import Sequence
from typing import Any
from urllib.parse import quote

from fidelitas import __version__
from fidelitas.errors import RequestError
from fidelitas.findings import Severity
from fidelitas.reports.forms.screen import Screen
from fidelitas.reports.issue import Issue, Rule, Verdict
from fidelitas.reports.report import Report
from fidelitas.text import Place, escape_control

__all__ = ["render"]

_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
_LEVELS = {Severity.CRITICAL: "error", Severity.HIGH: "error", Severity.MEDIUM: "warning", Severity.LOW: "note", Severity.INFO: "note"}
# What code hosts sort by: a number from 0 to 10, as text.
_SCORES = {Severity.CRITICAL: "9.5", Severity.HIGH: "8.0", Severity.MEDIUM: "5.5", Severity.LOW: "3.0", Severity.INFO: "0.0"}


def render(report: Report, screen: Screen) -> str:  # noqa: ARG001 as every form
    """Return a report as a SARIF log of one run; raises `RequestError` for one that is not about things that are wrong."""
    if report.issues is None:
        raise RequestError("this answer has no SARIF form", hint="findings, changes and charter check have.")
    issues = list(report.issues())
    rules = list({issue.rule.name: issue for issue in issues}.values())
    driver = {
        "name": "Fidelitas",
        "semanticVersion": __version__,
        "rules": [_rule(one.rule, one.severity) for one in rules],
    }
    index = {one.rule.name: number for number, one in enumerate(rules)}
    run = {
        "tool": {"driver": driver},
        "columnKind": "unicodeCodePoints",
        "results": [_result(one, index[one.rule.name]) for one in issues],
    }
    return json.dumps({"$schema": _SCHEMA, "version": "2.1.0", "runs": [run]}, indent=1) + "\n"


def _rule(rule: Rule, severity: Severity) -> dict[str, Any]:
    return {
        "id": rule.name,
        "shortDescription": {"text": rule.title or rule.name},
        "fullDescription": {"text": rule.why or rule.title or rule.name},
        "help": {"text": f"{rule.why} {rule.advice}".strip() or rule.name},
        "defaultConfiguration": {"level": _LEVELS[severity]},
        "properties": {"security-severity": _SCORES[severity], "tags": ["security"]},
    }


def _result(issue: Issue, index: int) -> dict[str, Any]:
    found: dict[str, Any] = {
        "ruleId": issue.rule.name,
        "ruleIndex": index,
        "kind": {Verdict.PASSED: "pass", Verdict.UNKNOWN: "open"}.get(issue.verdict, "fail"),
        "level": _LEVELS[issue.severity] if issue.verdict in (Verdict.FAILED, Verdict.ACCEPTED) else "none",
        "message": {"text": escape_control(issue.message)},
        "partialFingerprints": {"fidelitas/v1": escape_control(issue.key)},
        "locations": _locations(issue),
        "properties": {"subject": escape_control(issue.subject), "severity": str(issue.severity)},
    }
    if issue.verdict is Verdict.ACCEPTED:
        found["suppressions"] = [{"kind": "external", "status": "accepted", "justification": escape_control(issue.accepted)}]
    return found


def _locations(issue: Issue) -> Sequence[dict[str, Any]]:
    return [_location(place, issue.quote if not number else None) for number, place in enumerate(issue.places)]


def _location(place: Place, text: str | None) -> dict[str, Any]:
    physical: dict[str, Any] = {"artifactLocation": {"uri": _uri(place)}}
    if place.line is not None and place.line > 0:
        physical["region"] = {"startLine": place.line, **({"snippet": {"text": escape_control(text)}} if text else {})}
    return {"physicalLocation": physical, "logicalLocations": [{"name": escape_control(place.subject), "kind": "resource"}]}


def _uri(place: Place) -> str:
    """Return a path of a subject as a reference relative to wherever its evidence is kept."""
    raw = f"{place.subject}/{place.path.lstrip('/')}".encode("utf-8", "surrogateescape")
    return quote(raw, safe="/")
