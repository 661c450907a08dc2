"""JUnit XML: what build servers show as tests; a suite for each subject, a case for each thing that was tested."""

from xml.etree import ElementTree as ET

from fidelitas.errors import RequestError
from fidelitas.reports.forms.screen import Screen
from fidelitas.reports.issue import Issue, Verdict
from fidelitas.reports.report import Report
from fidelitas.text import escape_control

__all__ = ["render"]


def render(report: Report, screen: Screen) -> str:  # noqa: ARG001 as every form
    """Return a report as suites of tests; raises `RequestError` for one that is not about things that are wrong."""
    if report.issues is None:
        raise RequestError("this answer has no JUnit form", hint="findings, changes and charter check have.")
    by_subject: dict[str, list[Issue]] = {}
    for issue in report.issues():
        by_subject.setdefault(issue.subject or "estate", []).append(issue)
    root = ET.Element("testsuites", name="fidelitas")
    for subject, issues in sorted(by_subject.items()):
        failed = sum(one.verdict is Verdict.FAILED for one in issues)
        skipped = sum(one.verdict in (Verdict.UNKNOWN, Verdict.ACCEPTED) for one in issues)
        counts = {"tests": str(len(issues)), "failures": str(failed), "skipped": str(skipped), "errors": "0"}
        suite = ET.SubElement(root, "testsuite", name=escape_control(subject), attrib=counts)
        for one in issues:
            _case(suite, one)
    ET.indent(root, " ")
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ET.tostring(root, encoding="unicode") + "\n"


def _case(suite: ET.Element, issue: Issue) -> None:
    case = ET.SubElement(suite, "testcase", classname=issue.rule.name, name=escape_control(issue.message))
    if issue.verdict is Verdict.FAILED:
        failure = ET.SubElement(case, "failure", message=escape_control(issue.message), type=str(issue.severity))
        places = "\n".join(escape_control(str(place)) for place in issue.places)
        failure.text = f"{places}\n{escape_control(issue.rule.why)}\n{escape_control(issue.rule.advice)}".strip()
    elif issue.verdict in (Verdict.UNKNOWN, Verdict.ACCEPTED):
        ET.SubElement(case, "skipped", message=escape_control(issue.accepted or "not known: evidence is missing"))
