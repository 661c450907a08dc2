"""The charter, by the built program: what it sanctions is what is held, what it keeps apart, what it accepts for a time; drafts and edits."""

import json
import tomllib
from collections.abc import Mapping
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from fidelitas.audit import audit
from fidelitas.charter import Sanction, Sanctions, Scope, draft, read_charter
from fidelitas.charter.edit import new_charter, updated_charter, with_exception
from fidelitas.evidence import Bundle, make_bundle
from fidelitas.ledger import Ledger
from fidelitas.people import MappedPerson
from support import GROUP, NOW, bundle, fidelitas
from test_cli import check_schema

POLICY = """\
%sudo ALL=(ALL) ALL
rada ALL=(root) NOPASSWD: /usr/bin/id
tomas ALL=(ALL) NOPASSWD: ALL
vesna ALL=(rada) /usr/bin/who
"""
PEOPLE = "person,accounts,team,status,until\nInes Neap,ines,tides,active,\nRada Quay,rada,tides,active,\nTomas Creek,tomas,gauges,left,2026-09-30\n"


@pytest.fixture
def estate(tmp_path: Path) -> Path:
    knot = bundle(POLICY, {"/etc/group": GROUP})
    plover = replace(bundle("ines ALL=(ALL) ALL\n"), name="plover")
    Ledger(tmp_path / "ledger").add([knot, plover], NOW, {"knot": ("production", "role=gauge"), "plover": ("test",)})
    (tmp_path / "people.csv").write_text(PEOPLE)
    return tmp_path


def check(folder: Path, text: str, *options: str) -> Any:
    (folder / "charter.toml").write_text(f"format = 1\n{text}")
    return fidelitas("charter", "check", "charter.toml", *options, "--format", "json", cwd=folder)


def sanctions_of(folder: Path, text: str, *options: str) -> dict[tuple[str, str, str], tuple[str, str | None]]:
    ran = check(folder, text, *options)
    check_schema("charter", ran.json)
    return {(one["holder"], one["right"], one["subject"]): (one["sanction"], one["reason"]) for one in ran.json["holdings"]}


# -- warrants ----------------------------------------------------------------------------------------------------------------------------

KNOT = "knot"
WARRANTS: Mapping[str, tuple[str, dict[tuple[str, str, str], str]]] = {
    "an account on a host": ('who = "tomas"\nright = "root"\non = "knot"', {("tomas", "root", KNOT): "sanctioned", ("rada", "command:/usr/bin/id", KNOT): "unsanctioned"}),
    "a group": ('who = "%sudo"\nright = "root"\non = "*"', {("ines", "root", KNOT): "sanctioned", ("ines", "root", "plover"): "unsanctioned", ("tomas", "root", KNOT): "unsanctioned"}),
    "a person": ('who = "person:Ines Neap"\nright = "root"\non = "tag:test"', {("ines", "root", KNOT): "unsanctioned", ("ines", "root", "plover"): "sanctioned"}),
    "a team": ('who = "team:tides"\nright = ["root", "command"]\non = ["kn*", "plover"]', {("ines", "root", KNOT): "sanctioned", ("rada", "command:/usr/bin/id", KNOT): "sanctioned", ("ines", "root", "plover"): "sanctioned"}),
    "root covers commands": ('who = "rada"\nright = "root"\non = "tag:role=gauge"', {("rada", "command:/usr/bin/id", KNOT): "sanctioned"}),
    "a command does not cover root": ('who = "tomas"\nright = "command:/usr/bin/id"\non = "knot"', {("tomas", "root", KNOT): "broader than sanctioned"}),
    "another right of the same holder": ('who = "vesna"\nright = "command:/usr/bin/id"\non = "knot"', {("vesna", "command:/usr/bin/who as rada", KNOT): "broader than sanctioned"}),
    "without the password": ('who = ["tomas", "ines"]\nright = "root"\non = "knot"\nconditions = ["with password"]', {("tomas", "root", KNOT): "broader than sanctioned", ("ines", "root", KNOT): "sanctioned"}),
    "lapsed": ('who = "tomas"\nright = "root"\non = "knot"\nuntil = 2026-11-19', {("tomas", "root", KNOT): "unsanctioned"}),
    "on its last day": ('who = "tomas"\nright = "root"\non = "knot"\nuntil = 2026-11-20', {("tomas", "root", KNOT): "sanctioned"}),
    "not begun": ('who = "tomas"\nright = "root"\non = "knot"\nfrom = "2026-11-21"', {("tomas", "root", KNOT): "unsanctioned"}),
}  # fmt: skip


@pytest.mark.parametrize("case", WARRANTS)
def test_a_warrant_sanctions_what_it_says_and_nothing_else(case: str, estate: Path) -> None:
    text, expected = WARRANTS[case]
    found = sanctions_of(estate, f"[[warrant]]\n{text}\n", "--people", "people.csv")
    assert {key: found[key][0] for key in expected} == expected
    assert found["root", "root", KNOT][0] == "sanctioned"  # the system's own account


@pytest.mark.parametrize(
    ("text", "options", "status", "said"),
    [
        ("[[warrant]]\nwho = 'tomas'\nright = 'root'\non = 'knot'", (), 0, ""),
        ("[[warrant]]\nwho = 'tomas'\nright = 'root'\non = 'knot'", ("--strict",), 1, ""),
        ("", ("--strict",), 1, ""),
        ("[[warrant]]\nwho = 'tomsa'\nright = 'root'\non = 'knot'", (), 2, 'number 1 of the charter: no subject that it is about has "tomsa". Did you mean tomas'),
        ("[[warrant]]\nwho = 'tomas'\nright = 'root'\non = 'knott'", (), 2, 'called or tagged "knott". Did you mean knot?'),
        ("[[warrant]]\nwho = 'tomas'\nright = 'root'\non = 'tag:prodution'", (), 2, "Did you mean production"),
        ("[[warrant]]\nwho = 'tomas'\nright = 'roots'\non = 'knot'", (), 2, 'there is no right "roots". Did you mean root?'),
        ("[[warrant]]\nwho = 'team:tide'\nright = 'root'\non = 'knot'", ("--people", "people.csv"), 2, 'no team "tide". Did you mean tides?'),
        ("[[warrant]]\nwho = 'team:tides'\nright = 'root'\non = 'knot'", (), 4, "--people"),
        ("[[warrant]]\nwho = 'tomas'\nright = 'root'\non = 'knot'\nuntil = 'soon'", (), 2, '"until" must be a date'),
        ("[[warrant]]\nwho = 'tomas'\nright = 'root'\non = 'knot'\nconditions = ['never']", (), 2, "with password"),
        ("[[warrant]]\nwho = 'tomas'\nright = 'root'", (), 2, '"on" must be'),
        ("[[warrant]]\nwho = 'tomas'\nright = 'root'\non = 'knot'\nwhere = 'x'", (), 2, "unknown field where"),
        ("[[segregation]]\nrights = ['root']", (), 2, "two rights or more"),
        ("[[exception]]\nkey = 'x'\ncheck = 'y'\nreason = 'z'", (), 2, "by key or by check"),
        ("[[exception]]\nkey = 'x'", (), 2, "has a reason"),
        ("[[never]]\naccount = 'rada'\non = 'knot'\nright = 'root'", (), 0, ""),
        ("[[never]]\naccount = 'tomas'\non = 'knot'\nright = 'root'", (), 1, ""),
        ("[[never]]\naccount = 'tomas'\non = 'knot'\nright = 'command:/usr/bin/id'", (), 1, ""),
        ("[[must]]\naccount = 'tomas'\non = 'knot'\nright = 'command'", (), 0, ""),
        ("[[must]]\naccount = 'rada'\non = 'knot'\nright = 'run-as:ines'", (), 1, ""),
        ("[[must]]\naccount = 'ines'\non = ['knot', 'plover']\nright = 'root'", (), 0, ""),
        ("[[never]]\naccount = 'tomas'\non = 'knot'\nright = 'root'\ncommand = 'x'", (), 2, "two demands"),
        ("[[segregation]]\nrights = ['root', 'command']", (), 0, ""),
        ("[[segregation]]\nrights = ['command:/usr/bin/id', 'command:/usr/bin/who as rada']", (), 0, ""),
    ],
)  # fmt: skip
def test_what_a_charter_says_decides_the_exit_status(text: str, options: tuple[str, ...], status: int, said: str, estate: Path) -> None:
    ran = check(estate, text, *options)
    assert ran.status == status, (ran.out, ran.err)
    assert said in ran.err


def test_rights_that_must_not_come_together_are_found_by_account_and_by_person(estate: Path) -> None:
    both = "[[segregation]]\nrights = ['root', 'run-as']\nwithin = '{}'\non = ['*']\n"
    more = replace(bundle("rada ALL=(root) ALL\n"), name="dunlin")
    first = replace(
        bundle("rada2 ALL=(ines) ALL\n", {"/etc/passwd": "root:x:0:0::/:/bin/sh\nrada2:x:7:7::/:/bin/sh\nines:x:8:8::/:/bin/sh\n"}),
        name="knot",
    )
    Ledger(estate / "ledger").add([more, first], NOW + timedelta(days=1))
    assert check(estate, both.format("subject")).json["conflicts"] == []
    assert check(estate, both.format("estate")).json["conflicts"] == []
    (estate / "people.csv").write_text("person,accounts,team,status,until\nRada Quay,rada rada2,tides,active,\n")
    (found,) = check(estate, both.format("estate"), "--people", "people.csv").json["conflicts"]
    assert found["holder"] == "Rada Quay"
    assert {(one["right"], one["subject"]) for one in found["holdings"]} == {("root", "dunlin"), ("run-as:ines", "knot")}
    assert check(estate, both.format("subject"), "--people", "people.csv").json["conflicts"] == []


def test_entries_that_someone_has_to_see_to_are_due(estate: Path) -> None:
    text = """
[[warrant]]
who = "tomas"
right = "root"
on = "knot"
owner = "Tomas Creek"
until = 2026-12-10
[[warrant]]
who = "ines"
right = "run-as:tomas"
on = "knot"
review-by = 2026-11-01
[[warrant]]
who = "ines"
right = "root"
on = "*"
until = 2026-01-01
[[exception]]
check = "sudo.unknown-name"
reason = "x"
until = 2026-01-01
"""

    def due(*options: str) -> set[tuple[str, str, int]]:
        return {(one["due"], one["entry"], one["number"]) for one in check(estate, text, "--people", "people.csv", *options).json["due"]}

    usual = {("its owner has left", "warrant", 1), ("review is due", "warrant", 2), ("held by nobody", "warrant", 2), ("lapsed", "warrant", 3), ("nothing is found any more", "exception", 1)}  # fmt: skip
    assert due() == usual | {("lapses soon", "warrant", 1)}
    assert due("--within", "5") == usual
    assert ("lapsed", "warrant", 1) in due("--at", "2027-01-01")


# -- exceptions --------------------------------------------------------------------------------------------------------------------------


def findings(folder: Path, *options: str) -> Any:
    return fidelitas("findings", *options, "--format", "json", cwd=folder)


def test_an_accepted_finding_is_counted_and_not_listed_until_it_expires(estate: Path) -> None:
    before = findings(estate).json["findings"]
    (wanted,) = [one for one in before if one["check"] == "sudo.full-root-without-password"]
    (estate / "charter.toml").write_text("# ours\nformat = 1\n")
    ran = fidelitas(
        "charter",
        "accept",
        "charter.toml",
        wanted["key"],
        "--reason",
        "until spring",
        "--until",
        "2027-03-01",
        "--owner",
        "ines",
        cwd=estate,
    )
    assert ran.status == 0, ran.err
    text = (estate / "charter.toml").read_text()
    assert text.startswith("# ours\nformat = 1\n")
    assert "sudo.full-root-without-password on knot" in text
    after = findings(estate, "--charter", "charter.toml")
    check_schema("findings", after.json)
    assert [one["key"] for one in after.json["findings"]] == [one["key"] for one in before if one["key"] != wanted["key"]]
    (excepted,) = after.json["excepted"]
    assert (excepted["key"], excepted["owner"], excepted["until"]) == (wanted["key"], "ines", "2027-03-01")
    assert "1 excepted" in fidelitas("findings", "--charter", "charter.toml", cwd=estate).out
    assert wanted["message"] in fidelitas("findings", wanted["key"], "--charter", "charter.toml", cwd=estate).out  # who asks for it sees it
    (estate / "charter.toml").write_text(text.replace("2027-03-01", "2026-11-19"))
    (louder,) = [one for one in findings(estate, "--charter", "charter.toml").json["findings"] if one["key"] == wanted["key"]]
    assert louder["message"].endswith("the exception of ines expired on 2026-11-19")
    order = ["critical", "high", "medium", "low", "info"]
    assert order.index(louder["severity"]) == max(0, order.index(wanted["severity"]) - 1)
    for bad in ((wanted["key"], "again"), ("0" * 12, "unknown")):
        assert fidelitas("charter", "accept", "charter.toml", bad[0], "--reason", bad[1], cwd=estate).status == 2


def test_a_charter_is_written_whole_or_not_at_all(estate: Path) -> None:
    key = findings(estate).json["findings"][0]["key"]
    (estate / "kept").mkdir()
    (estate / "kept/charter.toml").write_text("format = 1\n")
    (estate / "kept/charter.toml").chmod(0o600)
    (estate / "charter.toml").symlink_to("kept/charter.toml")
    assert fidelitas("charter", "accept", "charter.toml", key, "--reason", "x", cwd=estate).status == 0
    assert (estate / "charter.toml").is_symlink()
    assert (estate / "kept/charter.toml").stat().st_mode & 0o777 == 0o600
    assert [path.name for path in (estate / "kept").iterdir()] == ["charter.toml"]
    ran = fidelitas("charter", "draft", "none/charter.toml", cwd=estate)
    assert (ran.status, ran.err.count("could not write charter")) == (4, 1)


def test_what_is_accepted_does_not_fail_a_run(estate: Path) -> None:
    worst = [one for one in findings(estate).json["findings"] if one["severity"] in ("critical", "high")]
    assert findings(estate).status == 1
    (estate / "charter.toml").write_text(
        "format = 1\n" + "".join(f'[[exception]]\ncheck = "{check}"\nreason = "known"\n' for check in {one["check"] for one in worst})
    )
    assert findings(estate, "--charter", "charter.toml").status in (0, 3)


def test_holders_and_changes_honour_the_charter(estate: Path) -> None:
    (estate / "charter.toml").write_text('format = 1\n[[warrant]]\nwho = ["tomas", "ines"]\nright = "root"\non = "*"\n')
    ran = fidelitas("holders", "--charter", "charter.toml", "--format", "json", cwd=estate)
    check_schema("holders", ran.json)
    said = {(one["holder"]["name"], one["right"]): one["charter"]["sanction"] for one in ran.json["holdings"] if one["subject"] == "knot"}
    assert said["tomas", "root"] == "sanctioned"
    assert said["rada", "command:/usr/bin/id"] == "unsanctioned"
    rest = fidelitas("holders", "--charter", "charter.toml", "--unsanctioned", "--format", "json", cwd=estate).json["holdings"]
    assert {one["holder"]["name"] for one in rest} == {name for (name, _), word in said.items() if word != "sanctioned"}
    assert "charter: " in fidelitas("holders", "--charter", "charter.toml", cwd=estate).out
    assert fidelitas("holders", "--unsanctioned", cwd=estate).status == 2
    Ledger(estate / "ledger").add([bundle(POLICY.replace("vesna", "ines"))], NOW + timedelta(days=1))
    Ledger(estate / "ledger").add([bundle("tomas ALL=(ALL) ALL\nines ALL=(ALL) ALL\n")], NOW + timedelta(days=2))
    Ledger(estate / "ledger").add([bundle("tomas ALL=(ALL) ALL\nines ALL=(ALL) ALL\nrada ALL=(ALL) ALL\n")], NOW + timedelta(days=3))
    assert fidelitas("changes", "--charter", "charter.toml", cwd=estate).status == 1
    (estate / "charter.toml").write_text('format = 1\n[[warrant]]\nwho = ["tomas", "ines", "rada"]\nright = "root"\non = "*"\n')
    ran = fidelitas("changes", "--charter", "charter.toml", "--format", "json", cwd=estate)
    assert ran.status == 0
    assert [one["charter"] for one in ran.json["rights"] if one["change"] == "gained"] == ["sanctioned"]


# -- drafts ----------------------------------------------------------------------------------------------------------------------------------


def test_a_draft_sanctions_all_that_was_granted_and_an_update_keeps_what_is_there(estate: Path) -> None:
    ran = fidelitas("charter", "draft", "charter.toml", "--people", "people.csv", cwd=estate)
    assert ran.status == 0, ran.err
    checked = fidelitas("charter", "check", "charter.toml", "--people", "people.csv", "--strict", "--format", "json", cwd=estate)
    assert {one["sanction"] for one in checked.json["holdings"] if one["granted"]} == {"sanctioned"}
    assert not checked.json["due"]
    assert fidelitas("charter", "draft", "charter.toml", cwd=estate).status == 2
    mine = "# signed by ines\n" + (estate / "charter.toml").read_text().replace('why = ""', 'why = "so it is"  # for good', 1)
    (estate / "charter.toml").write_text(mine)
    assert fidelitas("charter", "draft", "charter.toml", "--people", "people.csv", "--update", cwd=estate).status == 0
    assert (estate / "charter.toml").read_text() == mine  # nothing is unsanctioned
    Ledger(estate / "ledger").add([bundle(POLICY + "vesna ALL=(ALL) ALL\n")], NOW + timedelta(days=1))
    assert fidelitas("charter", "draft", "charter.toml", "--people", "people.csv", "--update", cwd=estate).status == 0
    text = (estate / "charter.toml").read_text()
    assert text.startswith(mine.rstrip("\n"))
    assert tomllib.loads(text)["warrant"][-1]["who"] == "vesna"


NAMES = st.text(st.characters(codec="utf-8", exclude_categories=("Cc", "Cs")), min_size=1, max_size=8)


@given(NAMES, NAMES, st.text(max_size=30), st.none() | st.dates(date(2000, 1, 1), date(2100, 1, 1)))
def test_whatever_the_words_a_charter_can_be_read_back(key: str, what: str, reason: str, until: date | None) -> None:
    text = with_exception("format = 1\n# kept\n[[warrant]]\nwho = 'x'\nright = 'root'\non = '*'\n", key, what, reason, "", until)
    assert "# kept\n[[warrant]]" in text
    (entry,) = tomllib.loads(text)["exception"]
    assert (entry["key"], entry["reason"], entry.get("until")) == (key, reason, until)


def test_hostile_names_are_text_in_a_draft() -> None:
    evil = "x\"]\n[[never]]\n#\u202e'''"
    passwd = f"root:x:0:0::/:/bin/sh\n{evil.split(chr(10), maxsplit=1)[0]}:x:7:7::/:/bin/sh\nines:x:8:8::/:/bin/sh\n"
    subjects = audit([bundle('#7 ALL=(ALL) ALL\nines ALL=(root) /bin/x \\"y\n', {"/etc/passwd": passwd})]).subjects
    holdings = [holding for one in subjects for holding in one.own_holdings]
    text = new_charter(draft(holdings, Scope({"knot": ()})), date(2026, 11, 20))
    charter = read_charter(text, "x")
    assert len(charter.clauses) == 0
    judge = Sanctions(charter, Scope({"knot": ()}), date(2026, 11, 20)).judge
    assert {judge(one).sanction for one in holdings if one.granted} == {Sanction.YES}
    assert updated_charter(text, [], date(2026, 11, 20)) == text


def test_a_whole_team_and_a_whole_tag_are_drafted_by_their_names() -> None:
    def made(name: str) -> Bundle:
        return replace(bundle("ines ALL=(ALL) ALL\nrada ALL=(ALL) ALL\n"), name=name)

    people = [MappedPerson(name=name, accounts=(name,), team="tides") for name in ("ines", "rada")]
    scope = Scope({"knot": ("web",), "plover": ("web",), "tern": ("db",)}, people)
    holdings = [holding for one in audit([made("knot"), made("plover")]).subjects for holding in one.own_holdings]
    roots = [one for one in draft(holdings, scope) if one.rights == ("root",) and "root" not in one.who]
    assert [(one.who, one.on) for one in roots] == [(("team:tides",), ("tag:web",))]


def test_the_demo_has_a_charter_that_names_what_was_planted(tmp_path: Path) -> None:
    for seed in ("1", "4"):
        assert fidelitas("demo", f"d{seed}", "--seed", seed, cwd=tmp_path).status == 0
        folder = f"d{seed}"
        ran = fidelitas(
            "charter",
            "check",
            f"{folder}/charter.toml",
            "--people",
            f"{folder}/people.csv",
            "--ledger",
            f"{folder}/ledger",
            "--format",
            "json",
            cwd=tmp_path,
        )
        check_schema("charter", ran.json)
        assert ran.status == 1
        truth = json.loads((tmp_path / folder / "truth.json").read_text())
        notices = {(one["change"], one["what"]) for one in truth["notices"] if one["subject"] == "charter.toml"}
        assert {(one["due"], f"{one['entry']} {one['number']}") for one in ran.json["due"]} == notices
        assert len(ran.json["excepted"]) == 1
        assert {one["outcome"] for one in ran.json["results"]} == {"kept", "broken"}
        gained = {(one["what"], one["subject"]) for one in truth["changes"] if one["change"] == "gained"}
        unsanctioned = {(one["holder"], one["subject"]) for one in ran.json["holdings"] if one["sanction"] != "sanctioned"}
        assert {("sysop", "curlew"), ("werkstatt", "godwit")} <= gained & unsanctioned


def test_survey_changes_revisions_and_charter_are_one_walk(tmp_path: Path) -> None:
    """As docs/charter.md and docs/changes.md describe it, and as a nightly run does it."""

    def run(*words: str) -> Any:
        return fidelitas(*words, cwd=tmp_path)

    def hand_in(policy: str, day: int) -> None:
        made = bundle(policy)
        manifest = replace(made.manifest, taken=NOW + timedelta(days=day))
        (tmp_path / f"knot{day}.tar").write_bytes(make_bundle(manifest, made.files, made.listings))

    def survey(day: int) -> Any:
        return run("survey", f"knot{day}.tar")

    hand_in("%sudo ALL=(ALL) ALL\n", 0)
    assert survey(0).status == 0
    assert run("charter", "draft", "charter.toml").status == 0
    assert run("charter", "check", "charter.toml", "--strict").status == 0
    hand_in("%sudo ALL=(ALL) ALL\nrada ALL=(ALL) NOPASSWD: ALL\n", 1)
    assert "rada gained root on knot: rule added: `rada ALL=(ALL) NOPASSWD: ALL`" in survey(1).out
    changes = run("changes", "--charter", "charter.toml")
    assert (changes.status, "unsanctioned" in changes.out) == (1, True)
    assert "rada gained root" in run("revisions").out
    assert run("charter", "check", "charter.toml", "--strict").status == 1
    assert run("charter", "draft", "charter.toml", "--update").status == 0  # it is meant to be
    assert run("charter", "check", "charter.toml", "--strict").status == 0
    assert run("changes", "--charter", "charter.toml").status == 0
    findings = run("findings", "--charter", "charter.toml", "--format", "json").json["findings"]
    for one in findings:
        assert run("charter", "accept", "charter.toml", one["key"], "--reason", "for a week", "--until", "2026-11-28").status == 0
    assert run("findings", "--charter", "charter.toml").status == 0
    hand_in("%sudo ALL=(ALL) ALL\nrada ALL=(ALL) NOPASSWD: ALL\n", 10)
    assert survey(10).status == 0
    assert run("changes", "--charter", "charter.toml").status == 0
    assert run("findings", "--charter", "charter.toml").status == 1  # the week is over
