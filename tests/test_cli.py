"""The built program, run as its users run it: on files, in a temporary folder."""

import csv
import io
import json
import os
import re
import stat
import subprocess
import sys
import tarfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from click import Context
from jsonschema import Draft202012Validator

from fidelitas.cli.main import main
from fidelitas.demo import make_estate
from fidelitas.evidence import make_bundle
from support import PASSWD, Put, Ran, bundle, fidelitas, packed
from test_probe import grow, put

ROOT = Path(__file__).parent.parent
SCHEMAS = ROOT / "docs" / "schemas"
COMMANDS = sorted(main.list_commands(Context(main)))


def handed_in(folder: Path, file: str = "knot.tar", sudoers: str = "%sudo ALL=(ALL) ALL\n", **kwargs: Any) -> Path:
    """Write a bundle as the probe would have printed it."""
    made = bundle(sudoers, **kwargs)
    path = folder / file
    path.write_bytes(make_bundle(made.manifest, made.files, made.listings))
    return path


@pytest.fixture(scope="module")
def estate(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Ran]:
    """The demo estate, and what the command printed."""
    folder = tmp_path_factory.mktemp("demo")
    ran = fidelitas("demo", "estate", cwd=folder)
    assert ran.status == 0, ran.err
    return folder, ran


def asked(estate: tuple[Path, Ran], *arguments: str) -> Ran:
    return fidelitas(*arguments, "--ledger", "estate/ledger", cwd=estate[0])


def check_schema(name: str, document: object) -> None:
    schema = json.loads((SCHEMAS / f"{name}.schema.json").read_text())
    Draft202012Validator(schema).validate(document)


# -- the demo ----------------------------------------------------------------------------------------------------------------------


def test_the_demo_shows_the_planted_oddities_among_peers_and_a_review_half_done(estate: tuple[Path, Ran]) -> None:
    truth = json.loads((estate[0] / "estate" / "truth.json").read_text())
    found = asked(estate, "peers", "--people", "estate/people.csv", "--format", "json").json["unusual"]
    shown = {(one["holder"], one["what"], place) for one in found for place in one["on"] if one["declared"]}
    assert shown == {(one["holder"], one["right"], one["subject"]) for one in truth["peers"]}
    standing = asked(estate, "review", "status", "2026-autumn", "--format", "json")
    check_schema("review", standing.json)
    assert standing.status == 1
    decided = [one["decision"] for one in standing.json["list"]]
    assert {kind: decided.count(kind) for kind in ("revoke", "ask")} == {"revoke": 1, "ask": 1}
    assert 0 < decided.count(None) < len(decided)
    assert any(one["about_own_rights"] for one in standing.json["list"])


def test_the_demo_finds_all_that_was_planted_and_raises_nothing_else(estate: tuple[Path, Ran]) -> None:
    truth = json.loads((estate[0] / "estate" / "truth.json").read_text())
    check_schema("truth", truth)
    found = asked(estate, "findings", "--format", "json", "--severity", "medium").json["findings"]
    planted = {(one["check"], one["subject"], one["path"], one["line"]) for one in truth["planted"]}
    raised = [(one["check"], one["subject"], one["places"][0]["path"], one["places"][0]["line"]) for one in found]
    assert sorted(raised, key=str) == sorted(planted, key=str)
    assert len({check for check, *_ in planted}) >= 14


@pytest.mark.parametrize("seed", [2, 3, 77])
def test_every_seed_gives_the_same_plot(seed: int, tmp_path: Path) -> None:
    assert fidelitas("demo", "estate", "--seed", str(seed), cwd=tmp_path).status == 0
    truth = json.loads((tmp_path / "estate" / "truth.json").read_text())["planted"]
    raised = fidelitas("findings", "--ledger", "estate/ledger", "--format", "json", "--severity", "medium", cwd=tmp_path).json["findings"]
    assert len(raised) == len(truth)


def test_equal_seeds_give_equal_estates() -> None:
    assert make_estate(5) == make_estate(5)
    assert make_estate(5) != make_estate(6)


def test_the_demo_prints_the_audit(estate: tuple[Path, Ran]) -> None:
    out = estate[1].out
    assert re.search(r"^curlew +Rocky Linux 9.4 +\d+ +any account +3 critical, 4 high +complete$", out, re.MULTILINE)
    assert re.search(r"^CRITICAL +curlew +sysop has user ID 0.* accounts.uid-zero$", out, re.MULTILINE)
    assert out.count("\n") < 50
    assert "\x1b" not in out


# -- answers -----------------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "command",
    [
        ["holders"],
        ["why", "noor"],
        ["findings"],
        ["coverage"],
        ["survey", "estate/tern.tar"],
        ["account", "noor"],
        ["programs"],
        ["compare", "noor", "ines"],
    ],
    ids=lambda command: command[0],
)
def test_json_is_as_documented(estate: tuple[Path, Ran], command: list[str]) -> None:
    ran = asked(estate, *command, "--format", "json")
    assert ran.out.isascii()
    assert ran.json["schema"] == f"fidelitas/{command[0]}/1"
    check_schema(command[0], ran.json)


def test_why_shows_every_link_with_its_file_and_line(estate: tuple[Path, Ran]) -> None:
    out = asked(estate, "why", "noor", "dunlin").out
    assert out == (
        "noor has full control of dunlin (root)\n"
        "\n"
        "noor on dunlin\n"
        "  person, user ID 1013, login with a password, groups noor, calibration\n"
        "\n"
        "root  (direct)\n"
        "    noor → %calibration: is in group calibration\n"
        "        dunlin:/etc/group:28:1\n"
        "    %calibration → root: may run any command as root by a sudo rule\n"
        "        dunlin:/etc/sudoers.d/30-calibration:1:1    %calibration GAUGES=(ALL) NOPASSWD: ALL\n"
        "        asks for no password\n"
        "\n"
        "Next: fidelitas account noor --on dunlin\n"
    )


def test_why_of_a_group_and_of_an_account_that_holds_nothing(estate: tuple[Path, Ran]) -> None:
    assert "%calibration → root" in asked(estate, "why", "%calibration").out
    assert "holds no elevated right" in asked(estate, "why", "daemon", "tern").out


@pytest.mark.parametrize(
    ("options", "expected"),
    [
        (["--account", "noor", "--on", "catalogue-db", "--right", "db-superuser"], {("catalogue-db", "noor@dunlin", "db-superuser")}),
        (["--account", "noor", "--right", "admin"], {("avocet", "noor", "admin")}),
        (
            ["--account", "noor", "--right", "root"],
            {("dunlin", "noor", "root"), ("tern", "noor", "root"), ("tern", "noor@dunlin", "root")},
        ),
        (["--right", "root", "--on", "tern", "--account", "%sudo"], {("tern", "%sudo", "root")}),
        (["--right", "run-as", "--on", "curlew", "--account", "%modellers"], {("curlew", "%modellers", "run-as:modelrun")}),
        (
            ["--strength", "conditional", "--on", "curlew"],
            {("curlew", "root's password", "root"), ("curlew", "sysop's password", "root"), ("curlew", "%disk", "root")},
        ),
    ],
)
def test_holders_can_be_narrowed(estate: tuple[Path, Ran], options: list[str], expected: set[tuple[str, ...]]) -> None:
    rows = asked(estate, "holders", "--format", "json", *options).json["holdings"]
    assert {(row["subject"], row["holder"]["name"], row["right"]) for row in rows} == expected


def test_every_listing_has_every_form(estate: tuple[Path, Ran]) -> None:
    for command in (["holders"], ["findings", "--fail-on", "never", "--allow-gaps"], ["coverage"], ["why", "noor"]):
        rows = list(csv.DictReader(io.StringIO(asked(estate, *command, "--format", "csv").out)))
        assert rows
        assert {row["subject"] for row in rows} >= {"avocet", "tern", "dunlin"}
        markdown = asked(estate, *command, "--format", "markdown").out.splitlines()
        assert any(line.startswith(("| --- |", "### ")) for line in markdown)
        assert asked(estate, *command).out
        document = asked(estate, *command, "--format", "json").json
        head, *lines = [json.loads(line) for line in asked(estate, *command, "--format", "jsonl").out.splitlines()]
        for line in lines:
            head[line["list"]].append(line["object"])
        assert {**head, "made": None} == {**document, "made": None}


def test_piped_tables_are_whole_and_plain(estate: tuple[Path, Ran]) -> None:
    lines = asked(estate, "holders", "--each").out.splitlines()[3:-2]
    assert lines[0].split() == ["SUBJECT", "HOLDER", "KIND", "RIGHT", "HOW", "PASSWORD", "STRENGTH", "SINCE", "PLACE"]
    assert all(
        line.split()[0] in {"tern", "curlew", "dunlin", "tides-db", "saltmarsh-ad", "avocet", "godwit", "catalogue-db"}
        for line in lines[1:]
    )


@pytest.mark.parametrize(("width", "colour"), [(60, True), (100, True), (126, False)])
def test_a_terminal_gets_what_fits_it(estate: tuple[Path, Ran], width: int, colour: bool, need: Callable[..., None]) -> None:
    need("script")
    program = Path(sys.executable).with_name("fidelitas")
    for command in ("holders", "findings", "why noor", "coverage"):
        line = f"stty cols {width}; {'' if colour else 'NO_COLOR=1'} {program} {command} --no-pager --ledger estate/ledger 2>/dev/null"
        env = {"PATH": os.environ["PATH"], "TERM": "xterm-256color", "LC_ALL": "C.UTF-8", "COLUMNS": str(width)}
        done = subprocess.run(
            ["script", "-qec", line, "/dev/null"],
            cwd=estate[0],
            env=env,
            capture_output=True,
            check=False,
            stdin=subprocess.DEVNULL,
            timeout=120,
        )
        text = done.stdout.decode()
        assert ("\x1b[" in text) is ((colour and command not in ("coverage", "holders")) or ("\x1b[" in text and colour))
        bare = "".join(part.partition("m")[2] if index else part for index, part in enumerate(text.split("\x1b[")))
        assert not [row for row in bare.replace("\r", "").split("\n") if len(row) > width and " " in row.strip()]  # but a single word


# -- exit statuses -----------------------------------------------------------------------------------------------------------------


def test_clean_and_complete_is_0(tmp_path: Path) -> None:
    assert fidelitas("survey", handed_in(tmp_path), cwd=tmp_path).status == 0
    ran = fidelitas("findings", cwd=tmp_path)
    assert (ran.status, ran.err) == (0, "")
    assert ran.out == "Nothing risky or unexpected was found, as far as the evidence goes.\n"


@pytest.mark.parametrize(
    ("sudoers", "options", "status"),
    [
        ("ines ALL=ALL\n", [], 1),
        ("ines ALL=ALL\n", ["--fail-on", "critical"], 0),
        ("ines ALL=ALL\n", ["--fail-on", "never"], 0),
        ("ines ALL=ALL\n", ["--severity", "critical"], 1),
        ("ines ALL=ALL\n", ["sudo.full-root-without-password"], 0),
        ("nosuch ALL=/bin/a\n", [], 0),
        ("nosuch ALL=/bin/a\n", ["--fail-on", "medium"], 1),
        ("broken\n", [], 3),
        ("broken\n", ["--allow-gaps"], 0),
        ("broken\nines ALL=ALL\n", [], 1),
    ],
)
def test_findings_and_gaps_set_the_exit_status(sudoers: str, options: list[str], status: int, tmp_path: Path) -> None:
    fidelitas("survey", handed_in(tmp_path, sudoers=sudoers), cwd=tmp_path)
    assert fidelitas("findings", *options, cwd=tmp_path).status == status


@pytest.mark.parametrize(
    ("arguments", "status", "message"),
    [
        (["holders"], 2, 'ledger "{cwd}/ledger" holds no survey. Run "fidelitas survey" first.'),
        (
            ["survey", "gone.tar"],
            4,
            'could not read evidence file "gone.tar": No such file or directory. Give a file that the probe printed.',
        ),
        (["survey", "folder"], 4, 'could not read evidence file "folder": it is not a regular file. Give a file that the probe printed.'),
        (
            ["survey", "/dev/zero"],
            4,
            'could not read evidence file "/dev/zero": it is not a regular file. Give a file that the probe printed.',
        ),
        (
            ["survey", "--root", "gone"],
            4,
            'could not read root folder "gone": it is not a folder. Give the folder that holds the host\'s etc.',
        ),
        (
            ["survey", "--root", "folder", "x.tar", "--name", "knot"],
            2,
            '--name "knot" does not say which subject it is for. With several subjects write --name FILE=NAME.',
        ),
        (["survey", "--name", "../x"], 2, '"../x" cannot name the subject'),
        (["survey", "--root", "folder"], 2, "the evidence does not contain the name of the host. Say it with --name."),
    ],
)
def test_what_cannot_be_done_is_said_in_one_line(arguments: list[str], status: int, message: str, tmp_path: Path) -> None:
    (tmp_path / "folder").mkdir()
    ran = fidelitas(*arguments, cwd=tmp_path)
    assert ran.status == status
    assert ran.err == f"fidelitas: {message.format(cwd=tmp_path)}\n"
    assert ran.out == ""


@pytest.mark.parametrize(
    "arguments", [["nosuch"], ["holders", "--nosuch"], ["why"], ["findings", "--severity", "bad"], ["holders", "--format", "xml"]]
)
def test_a_usage_error_is_2(arguments: list[str], tmp_path: Path) -> None:
    assert fidelitas(*arguments, cwd=tmp_path).status == 2


def test_an_unknown_account_subject_or_survey_is_2_and_names_what_there_is(estate: tuple[Path, Ran]) -> None:
    assert "Did you mean nobody" in asked(estate, "why", "nobody-here").err
    assert (
        "Known are: avocet, catalogue-db, curlew, dunlin, godwit, saltmarsh-ad, tern, tides-db."
        in asked(estate, "holders", "--on", "knot").err
    )
    ran = asked(estate, "holders", "--survey", "1999-01-01T000000Z")
    assert "The latest are: 20" in ran.err
    assert ran.status == 2


# -- bad input ---------------------------------------------------------------------------------------------------------------------


def test_one_bad_file_costs_only_itself(tmp_path: Path) -> None:
    good = handed_in(tmp_path)
    (tmp_path / "binary").write_bytes(b"\x7fELF" + bytes(5000))
    ran = fidelitas("survey", "binary", good, "gone", cwd=tmp_path)
    assert ran.status == 4
    assert "\nknot " in ran.out
    assert '"binary": not a tar archive' in ran.err
    assert '"gone": No such file' in ran.err
    assert fidelitas("holders", cwd=tmp_path).status == 0


def test_a_truncated_bundle_is_used_as_far_as_it_goes(tmp_path: Path) -> None:
    whole = handed_in(tmp_path).read_bytes()
    (tmp_path / "cut.tar").write_bytes(whole[: whole.rindex(b"files/8") - 100])
    ran = fidelitas("survey", "cut.tar", cwd=tmp_path)
    assert ran.status == 0
    assert "damaged or ends early" in ran.out
    assert "%sudo" not in ran.out  # the policy was behind the cut
    assert "/etc/sudoers: is not in the archive" in ran.out
    assert fidelitas("findings", cwd=tmp_path).status == 3


def test_an_archive_that_climbs_writes_nothing(tmp_path: Path) -> None:
    manifest = handed_in(tmp_path)
    with tarfile.open(manifest) as archive:
        head = archive.extractfile("manifest.json")
        assert head is not None
        text = head.read()
    with tarfile.open(tmp_path / "bad.tar", "w") as archive:
        for name, content in (("manifest.json", text), ("../../climbed", b"x"), ("files/../../../climbed", b"x")):
            entry = tarfile.TarInfo(name)
            entry.size = len(content)
            archive.addfile(entry, io.BytesIO(content))
    ran = fidelitas("survey", "bad.tar", cwd=tmp_path)
    assert "its name reaches out of the archive" in ran.out
    assert re.search(r"\.\./\.\./climbed +its name reaches out of the archive", fidelitas("coverage", cwd=tmp_path).out)
    assert not list(tmp_path.parent.rglob("climbed"))


@pytest.mark.parametrize(
    "sudoers",
    [
        b"\x7fELF\x00\xff" * 1000,
        b"\xff\xfea\x00l\x00i\x00",
        b"A" * (70 * 2**20),
        b"a ALL = " + b"/bin/x, " * 100_000,
        b"\x1b]0;owned\x07 ALL=ALL\n",
    ],
    ids=["binary", "utf-16", "one 70 MB line", "one long line", "escapes"],
)
def test_a_policy_that_is_none_is_said_in_words_and_the_rest_is_kept(sudoers: bytes, tmp_path: Path) -> None:
    root = grow(tmp_path / "root")
    put(root / "etc/sudoers", sudoers)
    ran = fidelitas("survey", "--root", root, cwd=tmp_path)
    assert ran.status == 0
    assert re.search(r"^root +root +user ID 0", ran.out, re.MULTILINE)
    assert "\x1b" not in ran.out + ran.err
    assert "incomplete" in ran.err
    assert fidelitas("findings", "--fail-on", "never", cwd=tmp_path).status == 3


def test_hostile_names_are_shown_and_not_obeyed(tmp_path: Path) -> None:
    passwd = PASSWD + '\x1b[2J\u202e=cmd|:x:0:0::/:/bin/sh\n"><script>:x:0:0::/:/bin/sh\n'
    ran = fidelitas("survey", handed_in(tmp_path, files={"/etc/passwd": passwd}), cwd=tmp_path)
    assert "\\x1b[2J\\u202e=cmd|" in ran.out
    for form in ("table", "csv", "markdown", "json"):
        out = fidelitas("holders", "--format", form, cwd=tmp_path).out
        assert not set("\x1b\u202e") & set(out)
        assert form != "markdown" or "<script" not in out


def test_formulas_are_neutralised_in_csv(tmp_path: Path) -> None:
    passwd = PASSWD + "=1+1:x:0:0::/:/bin/sh\n"
    fidelitas("survey", handed_in(tmp_path, files={"/etc/passwd": passwd}), cwd=tmp_path)
    assert "'=1+1" in [row["holder"] for row in csv.DictReader(io.StringIO(fidelitas("holders", "--format", "csv", cwd=tmp_path).out))]


# -- survey and ledger -------------------------------------------------------------------------------------------------------------


def test_this_machine_is_what_survey_reads_by_itself(tmp_path: Path) -> None:
    """Also without root: the answer is there, what could not be read is said, and the ledger is for its owner alone."""
    ran = fidelitas("survey", cwd=tmp_path)
    assert ran.status == 0
    assert os.uname().nodename in ran.out
    assert "/etc/passwd:" in ran.out
    assert stat.S_IMODE((tmp_path / "ledger").stat().st_mode) == 0o700


def test_the_newest_evidence_of_each_subject_answers_and_older_surveys_can_be_asked(tmp_path: Path) -> None:
    first = handed_in(tmp_path, sudoers="ines ALL=ALL\n")
    fidelitas("survey", first, cwd=tmp_path)
    fidelitas("survey", first, "--name", "plover", cwd=tmp_path)
    fidelitas("survey", handed_in(tmp_path, sudoers="%sudo ALL=ALL\n"), cwd=tmp_path)
    rows = fidelitas("holders", "--format", "json", "--account", "ines", cwd=tmp_path).json["holdings"]
    assert [(row["subject"], row["routes"][0]["links"][0]["to"]) for row in rows] == [("knot", "%sudo"), ("plover", "root")]
    surveys = [survey["name"] for survey in fidelitas("ledger", "info", "--format", "json", cwd=tmp_path).json["surveys"]]
    assert len(surveys) == 3
    old = fidelitas("holders", "--survey", surveys[0], "--format", "json", "--account", "ines", cwd=tmp_path).json["holdings"]
    assert [row["routes"][0]["links"][0]["to"] for row in old] == ["root"]


def test_an_answer_that_cannot_be_kept_is_still_given(tmp_path: Path) -> None:
    (tmp_path / "ledger").write_text("in the way")
    ran = fidelitas("survey", handed_in(tmp_path), cwd=tmp_path)
    assert ran.status == 0
    assert "ines" in ran.out
    assert "The survey is not kept." in ran.err


def test_a_refused_file_is_a_finding_and_its_rules_are_not_in_force(tmp_path: Path) -> None:
    files = {"/etc/extra": Put("tomas ALL=ALL\n", 0o666)}
    ran = fidelitas("survey", handed_in(tmp_path, sudoers="@include extra\n", files=files), cwd=tmp_path)
    assert "/etc/extra is writable by everyone (mode 0666); sudo ignores it until that is fixed" in ran.out
    assert "tomas" not in ran.out


# -- the rest ----------------------------------------------------------------------------------------------------------------------


def test_the_probe_that_is_printed_is_the_one_that_runs(tmp_path: Path) -> None:
    script = fidelitas("probe", cwd=tmp_path).out
    (tmp_path / "probe.sh").write_text(script)
    done = subprocess.run(["sh", "probe.sh", "--root", grow(tmp_path / "root")], cwd=tmp_path, capture_output=True, check=True)
    (tmp_path / "host.tar").write_bytes(done.stdout)
    with tarfile.open(tmp_path / "host.tar") as archive:
        manifest = archive.extractfile("manifest.json")
        assert manifest is not None
        check_schema("manifest", json.loads(manifest.read()))
    assert "\nknot.saltmarsh.example " in fidelitas("survey", "host.tar", cwd=tmp_path).out


@pytest.mark.parametrize("command", COMMANDS)
def test_every_command_has_help_and_stands_in_the_list_of_commands(command: str, tmp_path: Path) -> None:
    ran = fidelitas(command, "--help", cwd=tmp_path)
    assert ran.status == 0
    assert ran.out.startswith(f"Usage: fidelitas {command}")
    assert f"fidelitas {command}" in (ROOT / "docs" / "commands.md").read_text()


def test_a_closed_pipe_is_no_error(estate: tuple[Path, Ran]) -> None:
    program = Path(sys.executable).with_name("fidelitas")
    line = f"{program} findings --format json --ledger estate/ledger | head -n 1"
    done = subprocess.run(["sh", "-c", line], cwd=estate[0], capture_output=True, text=True, check=False)
    assert "Traceback" not in done.stderr
    assert "BrokenPipe" not in done.stderr


@pytest.mark.parametrize("command", COMMANDS)
def test_examples_in_the_help_stand_on_lines_of_their_own(command: str, tmp_path: Path) -> None:
    shown = fidelitas(command, "--help", cwd=tmp_path).out
    assert "\\b" not in shown
    assert not [line for line in shown.splitlines() if line.count("    fidelitas ") > 1]


def test_of_very_many_subjects_holders_counts_unless_it_is_asked_for_some(tmp_path: Path) -> None:
    """The table of all holdings on thousands of hosts would be read by no one, and would take hours to make."""
    (tmp_path / "all").mkdir()
    for number in range(201):
        rules = "%sudo ALL=(ALL) ALL\n" + ("tomas ALL=(ALL) ALL\n" if number < 3 else "")
        (tmp_path / "all" / f"host{number}.tar").write_bytes(packed(rules, name=f"host{number}"))
    assert fidelitas("survey", *sorted((tmp_path / "all").iterdir()), cwd=tmp_path).status in (0, 1)
    told = fidelitas("holders", cwd=tmp_path)
    assert told.out.splitlines()[0] == "201 subjects: 3 accounts with full control of some, 0 more can obtain it by a weakness"
    assert [line.split()[-2:] for line in told.out.splitlines() if line.startswith(("host", "198 "))] == [["3", "0"], ["2", "0"]]
    assert "tomas" in fidelitas("holders", "--on", "host1", cwd=tmp_path).out
    assert "3 subjects" in fidelitas("holders", "--account", "tomas", cwd=tmp_path).out
    rows = fidelitas("holders", "--format", "json", cwd=tmp_path).json["holdings"]
    assert len({row["subject"] for row in rows}) == 201
