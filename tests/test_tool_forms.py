"""What other tools take: SARIF, held against its published schema, and JUnit; on the demo and on hostile names."""

import json
import subprocess
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any
from xml.etree import ElementTree as ET

import pytest
from jsonschema import Draft4Validator, Draft202012Validator

from fidelitas.facts import Place
from fidelitas.findings import Finding, Severity
from fidelitas.reports.findings import findings_report
from fidelitas.reports.forms import Screen, render
from fidelitas.text import escape_control
from support import fidelitas

SARIF = Draft4Validator(json.loads((Path(__file__).parent / "schemas" / "sarif-2.1.0.json").read_text()))
OCSF = Draft202012Validator(json.loads((Path(__file__).parent / "schemas" / "ocsf-1.2.0.json").read_text()))
CHARTER = ("--charter", "estate/charter.toml", "--people", "estate/people.csv")
COMMANDS = [("findings", *CHARTER), ("changes",), ("charter", "check", "estate/charter.toml", "--people", "estate/people.csv")]


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("forms")
    assert fidelitas("demo", "estate", cwd=folder).status == 0
    return folder


def asked(demo: Path, form: str, command: tuple[str, ...]) -> str:
    ran = fidelitas(*command, "--format", form, "--ledger", "estate/ledger", cwd=demo)
    assert ran.status in (0, 1), ran.err
    return ran.out


@pytest.mark.parametrize("command", COMMANDS, ids=lambda command: command[0])
def test_sarif_is_what_its_schema_says(demo: Path, command: tuple[str, ...]) -> None:
    log = json.loads(asked(demo, "sarif", command))
    assert not list(SARIF.iter_errors(log))
    (run,) = log["runs"]
    rules = [rule["id"] for rule in run["tool"]["driver"]["rules"]]
    assert all(rules[one["ruleIndex"]] == one["ruleId"] for one in run["results"])
    assert run["results"]


def faults_of(lines: str) -> list[str]:
    """Return what the open schema of events has against some lines."""
    return [fault.message for line in lines.splitlines() for fault in OCSF.iter_errors(json.loads(line))]


@pytest.mark.parametrize("command", COMMANDS, ids=lambda command: command[0])
def test_what_is_wrong_is_told_as_events_of_the_open_schema(demo: Path, command: tuple[str, ...]) -> None:
    lines = asked(demo, "ocsf", command)
    assert not faults_of(lines)
    wrong = [one for one in json.loads(asked(demo, "sarif", command))["runs"][0]["results"] if one["kind"] == "fail"]
    told = [json.loads(line) for line in lines.splitlines()]
    assert [one["finding_info"]["uid"] for one in told] == [one["partialFingerprints"]["fidelitas/v1"] for one in wrong]
    assert [one["status"] == "Suppressed" for one in told] == ["suppressions" in one for one in wrong]


LOG = """\
Nov  3 10:00:00 tern useradd[7]: new user: name=vesna, UID=1009, GID=1009, home=/home/vesna, shell=/bin/bash, from=/dev/pts/0
Nov  3 10:00:01 tern userdel[8]: delete user 'vesna'
Nov  3 10:00:02 tern gpasswd[9]: members of group docker set by root to rada,tomas
Nov  3 10:00:03 tern passwd[9]: pam_unix(passwd:chauthtok): password changed for rada
Nov  3 10:00:04 tern sudo:     rada : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/x \x1b[31m<script> ; USER=y ; COMMAND=z
Nov  3 10:00:05 tern sshd[10]: Failed password for invalid user oracle from fe80::1 port 50000 ssh2
Nov  3 10:00:06 tern sshd[10]: Accepted password for rada from lagoon.saltmarsh.example port 50000 ssh2
Nov  3 10:00:07 tern su[11]: FAILED SU (to root) rada on pts/1
"""


@pytest.mark.parametrize("given", [False, True])
def test_uses_of_privilege_are_events_of_the_open_schema(demo: Path, given: bool) -> None:
    (demo / "auth.log").write_text(LOG, encoding="utf-8")
    command = ("usage", *(("--log", "auth.log") if given else ()))
    lines = asked(demo, "ocsf", command)
    assert not faults_of(lines)
    told = [json.loads(line) for line in lines.splitlines()]
    events = [json.loads(line) for line in asked(demo, "jsonl", command).splitlines()]
    assert len(told) == len(events)
    assert {one["class_name"] for one in told} >= {"Process Activity", "Authentication", "Group Management"}
    assert not given or "Account Change" in {one["class_name"] for one in told}
    for one, event in zip(told, events, strict=True):
        assert one["time"] == (int(datetime.fromisoformat(event["time"]).timestamp() * 1000) if event["time"] else 0)
        assert one["actor"].get("user", {}).get("name") == (event["persons"][0] if len(event["persons"]) == 1 else event["account"])
        assert (one["status"] == "Failure") == (event["kind"] in ("refused", "failed authentication", "failed login"))
        assert event["command"] is None or one["class_uid"] != 1007 or one["process"]["cmd_line"] == escape_control(event["command"])


def test_findings_in_sarif_are_those_of_the_command(demo: Path) -> None:
    results = json.loads(asked(demo, "sarif", COMMANDS[0]))["runs"][0]["results"]
    document = json.loads(asked(demo, "json", COMMANDS[0]))
    suppressed = {
        one["partialFingerprints"]["fidelitas/v1"]: one["suppressions"][0]["justification"] for one in results if "suppressions" in one
    }
    assert suppressed == {one["key"]: one["reason"] for one in document["excepted"]}
    assert suppressed
    others = [one for one in results if "suppressions" not in one]
    assert [one["partialFingerprints"]["fidelitas/v1"] for one in others] == [one["key"] for one in document["findings"]]
    first, place = others[0], document["findings"][0]["places"][0]
    physical = first["locations"][0]["physicalLocation"]
    assert physical["artifactLocation"]["uri"] == f"{place['subject']}{place['path']}"
    assert physical["region"]["startLine"] == place["line"]
    levels = {"critical": "error", "high": "error", "medium": "warning", "low": "note", "info": "note"}
    assert [one["level"] for one in others] == [levels[one["severity"]] for one in document["findings"]]


@pytest.mark.parametrize("command", COMMANDS, ids=lambda command: command[0])
def test_junit_counts_what_it_lists(demo: Path, command: tuple[str, ...]) -> None:
    root = ET.fromstring(asked(demo, "junit", command))
    assert root.tag == "testsuites"
    for suite in root:
        cases = list(suite)
        assert int(suite.attrib["tests"]) == len(cases)
        assert int(suite.attrib["failures"]) == sum(case.find("failure") is not None for case in cases)
        assert int(suite.attrib["skipped"]) == sum(case.find("skipped") is not None for case in cases)


def test_demands_that_are_kept_pass(demo: Path) -> None:
    results: list[dict[str, Any]] = json.loads(asked(demo, "sarif", COMMANDS[2]))["runs"][0]["results"]
    document = json.loads(asked(demo, "json", COMMANDS[2]))
    demands = [one for one in results if one["ruleId"] == "charter.demand"]
    outcomes = [one["outcome"] for one in document["results"]] if "results" in document else [one["outcome"] for one in document["clauses"]]
    assert len(demands) == len(outcomes)
    assert sum(one["kind"] == "fail" for one in demands) == outcomes.count("broken")


@pytest.mark.parametrize("form", ["sarif", "junit", "ocsf"])
def test_other_answers_have_no_such_form(demo: Path, form: str) -> None:
    assert fidelitas("holders", "--format", form, "--ledger", "estate/ledger", cwd=demo).status == 2


def test_hostile_names_stay_text() -> None:
    name = '\x1b[31m\u202e<&"]]> \udc80 #?%/..'
    finding = Finding(
        check="x.y", severity=Severity.LOW, subject="knot", about=name, message=name, why=name, advice=name, places=(Place("knot", f"/etc/{name}", 3),), quote=name
    )  # fmt: skip
    report = findings_report([finding], complete=True)
    log = json.loads("".join(render(report, "sarif", Screen(None, None, colour=False))))
    assert not list(SARIF.iter_errors(log))
    uri = log["runs"][0]["results"][0]["locations"][0]["physicalLocation"]["artifactLocation"]["uri"]
    assert uri.startswith("knot/etc/")
    assert all(sign not in uri for sign in '#? "<\x1b')
    assert not faults_of("".join(render(report, "ocsf", Screen(None, None, colour=False))))
    junit = "".join(render(report, "junit", Screen(None, None, colour=False)))
    assert "\x1b" not in junit
    ET.fromstring(junit)


def test_routes_are_drawn_with_their_places(demo: Path) -> None:
    command = ("why", "caspar", "saltmarsh-ad")
    routes = [route for held in json.loads(asked(demo, "json", command))["holdings"] for route in held["routes"]]
    dot, svg = asked(demo, "dot", command), asked(demo, "svg", command)
    assert dot.startswith("digraph")
    root = ET.fromstring(svg)
    rows = [one for one in root.iter("{http://www.w3.org/2000/svg}text") if one.get("class") == "title"]
    assert len(rows) == len(routes) > 0
    assert len(list(root.iter("{http://www.w3.org/2000/svg}line"))) == sum(len(route["links"]) for route in routes)
    for route in routes:
        for link in route["links"]:
            assert f'"{link["from"]}" -> "{link["to"]}"' in dot
            assert f"{link['place']['path']}:{link['place']['line']}" in dot


def test_graphviz_reads_what_is_drawn(demo: Path, need: Callable[..., None], tmp_path: Path) -> None:
    need("dot")
    (tmp_path / "x.dot").write_text(asked(demo, "dot", ("why", "noor")))
    subprocess.run(["dot", "-Tsvg", tmp_path / "x.dot", "-o", tmp_path / "x.svg"], check=True, timeout=60)
