"""Questions of people who decide about rights, put to the built program: who, what, why not, what is left; for one host and for many."""

import json
import re
import shlex
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest
from msgspec.structs import replace

from fidelitas.cli.main import COMMANDS
from fidelitas.evidence import make_bundle
from support import DEBIAN, GROUP, PASSWD, Ran, bundle, fidelitas
from test_cli import asked, check_schema, estate, handed_in  # noqa: F401 a fixture
from test_probe import grow

Estate = tuple[Path, Ran]


# -- who ---------------------------------------------------------------------------------------------------------------------------


def test_the_accounts_of_a_host_with_numbers_groups_and_rights(estate: Estate) -> None:  # noqa: F811
    out = asked(estate, "accounts", "tern").out
    assert re.search(r"^idris +person +1001:1001 +idris\(1001\) sudo\(27\) +usable \(yescrypt\), \d+ days old +root$", out, re.MULTILINE)
    assert re.search(r"^mirko .* root \(can be obtained\)$", out, re.MULTILINE)
    elevated = asked(estate, "accounts", "--elevated", "--kind", "person", "--format", "json").json
    check_schema("accounts", elevated)
    assert {row["kind"].partition(",")[0] for row in elevated["accounts"]} == {"person"}
    assert all(row["right"] for row in elevated["accounts"])


def test_the_administrators_of_a_windows_machine_and_of_a_host(estate: Estate) -> None:  # noqa: F811
    machine = asked(estate, "admins", "avocet").out
    assert machine.startswith("avocet: 5 administrators; groups %Administrators, %Domein-beheerders")
    assert re.search(r"^%Administrators +noor +listed +admin +local-groups:1$", machine, re.MULTILINE)
    document = asked(estate, "admins", "--format", "json").json
    check_schema("admins", document)
    assert len(document["subjects"]) == 8


def test_administrators_listed_primary_late_revoked_and_rules_that_are_commented_out(tmp_path: Path) -> None:
    passwd = PASSWD.replace("rada:x:1003:1003", "rada:x:1003:27")
    sudoers = "%sudo ALL=(ALL) ALL\n# tomas ALL=(ALL) NOPASSWD: ALL\n# a note, in which this = that\n#ines ALL = broken\n"
    fidelitas("survey", handed_in(tmp_path, sudoers=sudoers, files={"/etc/passwd": passwd}), cwd=tmp_path)
    out = fidelitas("admins", "knot", cwd=tmp_path).out
    assert out.startswith("knot: 3 administrators; groups %sudo\n")
    assert re.search(r"^%sudo +rada +by primary group .*root +/etc/sudoers:1:1$", out, re.MULTILINE)
    assert re.search(r"^%sudo +ines +listed .*root", out, re.MULTILINE)
    assert re.search(r"^tomas ALL=\(ALL\) NOPASSWD: ALL +/etc/sudoers:2$", out, re.MULTILINE)
    assert "this = that" not in out
    assert "broken" not in out


def test_who_is_connected_and_which_account_a_connection_gets(estate: Estate) -> None:  # noqa: F811
    found = asked(estate, "connections", "--format", "json").json
    check_schema("connections", found)
    assert ("tides-db", "svc_ingest") in {(one["subject"], one["account"]) for one in found["connections"]}
    gets = asked(estate, "which-account", "catalogue-db", "sanna", "10.20.3.7", "--format", "json")
    check_schema("admission", gets.json)
    assert (gets.status, gets.json["account"]) == (0, "sanna@10.20.%")
    for tls, method in (("--tls", None), ("--no-tls", "trust")):  # with a password that is kept as md5 scram-sha-256 cannot be answered
        question = ("which-account", "tides-db", "svc_legacy", "10.20.9.4", "--database", "tides", tls, "--format", "json")
        assert asked(estate, *question).json["method"] == method
    assert asked(estate, "which-account", "tides-db", "emre", "10.20.9.4").status == 0
    assert asked(estate, "which-account", "tides-db", "nobody", "10.20.9.4").status == 1
    for words in (("tern", "noor", "10.0.0.1"), ("tides-db", "noor", "not-an-address")):
        ran = asked(estate, "which-account", *words)
        assert (ran.status, ran.err.count("\n")) == (2, 1)


# -- what is left --------------------------------------------------------------------------------------------------------------------


def test_everything_of_a_leaver_and_the_steps_that_end_it(estate: Estate) -> None:  # noqa: F811
    found = asked(estate, "leaver", "nils", "--format", "json").json
    check_schema("departure", found)
    assert {(one["subject"], one["right"]) for one in found["remaining"]} >= {
        ("dunlin", "root"),
        ("tern", "root"),
        ("catalogue-db", "db-superuser"),
    }
    commands = [(one["subject"], one["command"]) for one in found["steps"]]
    assert commands[0] == ("dunlin", "usermod --lock --expiredate 1 nils")
    assert ("saltmarsh-ad", "samba-tool user disable nils") in commands
    assert ("tern", "sed --in-place '2d' /root/.ssh/authorized_keys") in commands
    assert [one["phase"] for one in found["steps"]] == sorted(
        (one["phase"] for one in found["steps"]), key=("lock", "sessions", "keys", "rights", "left-behind").index
    )
    assert asked(estate, "leaver", "nils", "--verify").status == 1
    unknown = asked(estate, "leaver", "nilz")
    assert (unknown.status, "Did you mean nils?" in unknown.err) == (2, True)


def test_the_steps_of_a_leaver_leave_nothing_when_they_are_run(tmp_path: Path, need: Callable[..., None]) -> None:
    """The printed commands are run on the files of a host with its own tools; surveyed again, nothing is left."""
    need("usermod", "gpasswd", root=True)
    root = grow(tmp_path / "root", "root ALL=(ALL) ALL\n%sudo ALL=(ALL) ALL\n")
    (root / "etc/group").write_text(GROUP.replace("gauges:x:3001:rada", "gauges:x:3001:rada,ines"))
    fidelitas("survey", "--root", root, "--name", "knot", cwd=tmp_path)
    found = fidelitas("leaver", "ines", "--format", "json", cwd=tmp_path).json
    assert found["remaining"]
    for step in found["steps"]:
        program, *rest = shlex.split(step["command"])
        assert program in {"usermod", "gpasswd"}, step
        where = ["--prefix", str(root)] if program == "usermod" else ["--root", str(root)]
        subprocess.run([program, *where, *rest], check=True, capture_output=True)
    fidelitas("survey", "--root", root, "--name", "knot", cwd=tmp_path)
    ran = fidelitas("leaver", "ines", "--verify", cwd=tmp_path)
    assert (ran.status, "holds nothing any more" in ran.out) == (0, True), ran.out


# -- many hosts ------------------------------------------------------------------------------------------------------------------------


def test_two_hundred_equal_hosts_are_told_as_one(tmp_path: Path) -> None:
    """Findings in less than 60 lines, holders of root in less than 80; all hosts are in the JSON."""
    made = bundle(
        "%sudo ALL=(ALL) ALL\nines ALL=(ALL) NOPASSWD: ALL\nrada ALL=(root) /usr/bin/vim /etc/motd\n", {"/etc/os-release": DEBIAN}
    )
    folder = tmp_path / "hosts"
    folder.mkdir()
    for number in range(200):
        (folder / f"{number}.tar").write_bytes(make_bundle(replace(made.manifest, subject=f"h{number:03}"), made.files, made.listings))
    ran = fidelitas("survey", *sorted(folder.iterdir()), cwd=tmp_path)
    assert ran.out.count("\n") < 50
    assert re.search(r"^200 subjects +Debian 12 ", ran.out, re.MULTILINE)
    found = fidelitas("findings", "--allow-gaps", cwd=tmp_path)
    assert found.out.count("\n") < 60
    assert re.search(r"^HIGH +200 subjects +ines may run ", found.out, re.MULTILINE)
    holders = fidelitas("holders", "--right", "root", cwd=tmp_path).out
    assert holders.count("\n") < 80
    assert re.search(r"^200 subjects +ines +root ", holders, re.MULTILINE)
    document = fidelitas("findings", "--allow-gaps", "--format", "json", cwd=tmp_path).json
    assert len({finding["subject"] for finding in document["findings"]}) == 200


def test_granted_rights_and_escalations_stand_apart(estate: Estate) -> None:  # noqa: F811
    out = asked(estate, "holders", "--on", "tern").out
    granted, rest = out.split("Can be obtained by a weakness")
    obtained, limited = rest.split("Granted: limited rights")
    assert out.startswith("tern: 6 accounts with full control, 7 more can obtain it by a weakness")
    assert re.search(r"^caspar idris kofi pavel +root +%sudo → sudo +own", granted, re.MULTILINE)
    assert re.search(r"^mirko sanna xenia +root +%dataops → writes /opt/tide/rotate.sh", obtained, re.MULTILINE)
    assert "command:/usr/bin/systemctl restart tide-ingest" in limited
    matrix = asked(estate, "holders", "--matrix").out
    assert re.search(r"^mirko .*\(root\)", matrix, re.MULTILINE)


def test_one_finding_in_full(estate: Estate) -> None:  # noqa: F811
    listed = asked(estate, "findings", "running.writable", "--format", "json").json["findings"]
    out = asked(estate, "findings", listed[0]["key"]).out
    assert "1> 30 2 * * * root /opt/tide/rotate.sh --keep 30" in out
    assert "gives root to mirko sanna xenia %dataops" in out
    assert "first seen 2026-10-20 06:00 UTC" in out
    assert "Fix chown root /opt/tide/rotate.sh; chmod go-w /opt/tide/rotate.sh" in out


# -- manners ---------------------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("words", [["fidnings"], ["holdres"], ["help", "rout"], ["findings", "sudo.overriden-rule"]])
def test_what_is_mistyped_gets_a_suggestion(words: list[str], estate: Estate) -> None:  # noqa: F811
    ran = fidelitas(*words, *(("--ledger", "estate/ledger") if words[0] == "findings" else ()), cwd=estate[0])
    assert (ran.status, "Did you mean" in ran.err, ran.err.count("\n")) == (2, True, 1)


def test_settings_come_from_files_and_the_command_line_counts_more(estate: Estate, tmp_path: Path) -> None:  # noqa: F811
    ledger = estate[0] / "estate" / "ledger"
    file = tmp_path / "fidelitas.toml"
    file.write_text(f'ledger = "{ledger}"\nseverity = "critical"\nfail-on = "never"\n')
    ran = fidelitas("findings", cwd=tmp_path, env={"FIDELITAS_LEDGER": ""})
    assert (ran.status, ran.out.startswith("5 findings: 5 critical")) == (0, True), ran
    assert "high" in fidelitas("findings", "--severity", "high", cwd=tmp_path, env={"FIDELITAS_LEDGER": ""}).out.partition("\n")[0]
    shown = fidelitas("config", "show", "--format", "json", cwd=tmp_path, env={"FIDELITAS_LEDGER": ""}).json
    check_schema("settings", shown)
    assert shown["settings"]["severity"] == {"value": "critical", "from": str(file)}


@pytest.mark.parametrize(
    ("text", "mode"),
    [("severity = 3\n", 0o600), ('severity = "worst"\n', 0o600), ("nosuch = 1\n", 0o600), ("= [", 0o600), ('severity = "low"\n', 0o666)],
)
def test_a_configuration_that_cannot_be_trusted_or_read_is_refused_in_one_line(text: str, mode: int, tmp_path: Path) -> None:
    (tmp_path / "fidelitas.toml").write_text(text)
    (tmp_path / "fidelitas.toml").chmod(mode)
    ran = fidelitas("config", "show", cwd=tmp_path)
    assert (ran.status, ran.out, ran.err.count("\n")) == (4, "", 1)
    assert "fidelitas.toml" in ran.err


def test_completion_offers_what_is_in_the_ledger(estate: Estate) -> None:  # noqa: F811
    def offered(*words: str) -> set[str]:
        env = {"COMP_WORDS": " ".join(("fidelitas", *words)), "COMP_CWORD": str(len(words)), "_FIDELITAS_COMPLETE": "bash_complete"}
        return {
            line.partition(",")[2] for line in fidelitas(cwd=estate[0], env={**env, "FIDELITAS_LEDGER": "estate/ledger"}).out.splitlines()
        }

    assert offered("holders", "--on", "t") == {"tern", "tides-db"}
    assert "noor" in offered("why", "no")
    assert "sudo.overridden-rule" in offered("findings", "sudo.o")
    for shell in ("bash", "zsh", "fish"):
        assert "_FIDELITAS_COMPLETE" in fidelitas("completion", shell, cwd=estate[0]).out


def test_every_word_of_the_glossary_is_in_the_documentation(estate: Estate) -> None:  # noqa: F811
    words = fidelitas("help", "--format", "json", cwd=estate[0]).json
    check_schema("glossary", words)
    page = (Path(__file__).parent.parent / "docs" / "glossary.md").read_text()
    assert all(f"| {word} | {stated['meaning']}" in page for word, stated in words["words"].items())
    assert "Why" in fidelitas("help", "sudo.overridden-rule", cwd=estate[0]).out
    assert all(fidelitas("help", command, cwd=estate[0]).out.startswith("Usage: ") for command in ("may", "findings"))


def test_every_document_says_how_it_was_made(estate: Estate) -> None:  # noqa: F811
    made = asked(estate, "holders", "--format", "json").json["made"]
    assert (made["tool"], made["ledger"], made["survey"], made["gaps"]) == ("fidelitas", "estate/ledger", None, 0)
    assert COMMANDS
    assert json.dumps(made)


def test_a_groups_page_shows_its_members_and_what_it_gives(estate: Estate) -> None:  # noqa: F811
    out = asked(estate, "account", "%docker").out
    assert out.startswith("%docker can obtain full control of tern (root) by a weakness\n")
    assert "  1 member\n      ines\n" in out
    document = asked(estate, "account", "%docker", "--format", "json").json
    check_schema("account", document)
    assert [(one["subject"], [member["name"] for member in one["members"]]) for one in document["groups"]] == [("tern", ["ines"])]
    assert (
        asked(estate, "account", "%dokcer").err
        == 'fidelitas: no subject in evidence has an account or group "%dokcer". Did you mean %docker?\n'
    )


def test_people_count_by_the_same_routes_as_an_accounts_page(estate: Estate) -> None:  # noqa: F811
    folder, _ = estate
    document = asked(estate, "people", str(folder / "estate" / "people.csv"), "--format", "json").json
    (nils,) = (one for one in document["people"] if one["left"])
    rights = {(one["subject"], right["right"]) for one in nils["accounts"] for right in one["rights"]}
    page = asked(estate, "account", "nils", "--format", "json").json
    held = {(one["subject"], held["right"]) for part in ("hosts", "servers") for one in page[part] for held in one["holdings"]}
    held |= {(one["subject"], one["right"]) for one in page["from_elsewhere"]}
    assert rights == held
    assert {("tern", "root"), ("catalogue-db", "db-superuser"), ("dunlin", "root")} <= rights


def test_a_conditional_grant_does_not_hide_a_weakness(estate: Estate) -> None:  # noqa: F811
    out = asked(estate, "holders", "--right", "root", "--on", "curlew").out
    granted, _, obtainable = out.partition("Can be obtained by a weakness")
    assert "any account" in obtainable
    assert "any account  " not in granted.partition("Granted")[2]


def test_whoever_is_listed_is_found_by_name_with_all_that_is_listed(estate: Estate) -> None:  # noqa: F811
    """One of each kind of holder, and those with the most: what is asked about them leaves out no subject, and nothing that they hold."""
    listed: dict[tuple[str, str], set[tuple[str, str]]] = {}
    for row in asked(estate, "holders", "--each", "--format", "json").json["holdings"]:
        listed.setdefault((row["holder"]["kind"], row["holder"]["name"]), set()).add((row["subject"], row["right"]))
    kinds = {kind: (kind, name) for kind, name in sorted(listed, reverse=True)}
    most = sorted(listed, key=lambda one: -len(listed[one]))[:1]
    assert {"account", "group", "any account", "key", "password holder"} <= kinds.keys()
    for kind, name in dict.fromkeys((*kinds.values(), *most)):
        held = listed[kind, name]
        for command in (("holders", "--account", name), ("why", name)):
            found = asked(estate, *command, "--format", "json").json["holdings"]
            assert held <= {(one["subject"], one["right"]) for one in found}, (command, name)
        page = asked(estate, "account", name, "--format", "json").json
        check_schema("account", page)
        there = [holding for part in ("hosts", "servers", "groups") for one in page[part] for holding in [*one["holdings"]]]
        rights = {(one["subject"], one["right"]) for one in (*there, *page["from_elsewhere"], *page["others"])}
        assert held <= rights, name
