"""may, account, rehearse and charter: the built program on policies in a temporary folder."""

import json
import os
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from support import GROUP, PASSWD, SHADOW, Ran, fidelitas
from test_cli import asked, check_schema, estate, handed_in  # noqa: F401  # the fixture
from test_probe import grow, put

POLICY = """\
Cmnd_Alias WEB = /bin/restart web, /bin/status
User_Alias STAFF = %gauges
STAFF ALL = (root) NOPASSWD: WEB
tomas ALL = (ALL) /bin/cat -f /var/log/auth.log, !/bin/sh
ines ALL = (tomas) /bin/cat
ines tern = /bin/id
"""


def may(tmp_path: Path, *words: str):  # type: ignore[no-untyped-def]  # noqa: ANN201
    if not (tmp_path / "ledger").exists():
        fidelitas("survey", handed_in(tmp_path, sudoers=POLICY), cwd=tmp_path)
    return fidelitas("may", *words, cwd=tmp_path)


def test_an_allowed_command_comes_with_its_rule_and_chain(tmp_path: Path) -> None:
    ran = may(tmp_path, "rada", "knot", "--", "/bin/restart", "web")
    assert ran.status == 0
    assert ran.out == (
        "allowed: rada may run /bin/restart web as root on knot\n"
        "\n"
        "the rule that decides on knot\n"
        "    knot:/etc/sudoers:3:1    STAFF ALL = (root) NOPASSWD: WEB\n"
        "        rada is in %gauges\n"
        "        through User_Alias STAFF (/etc/sudoers:2:12)\n"
        "        through Cmnd_Alias WEB (/etc/sudoers:1:12)\n"
        "        the command /bin/restart web\n"
        "  asks for no password\n"
        "\n"
        "Next: fidelitas account rada\n"
    )


@pytest.mark.parametrize(
    ("words", "differs"),
    [
        (
            ["tomas", "knot", "--", "/bin/cat", "/var/log/auth.log"],
            'arguments differ: the rule allows "-f /var/log/auth.log", asked was "/var/log/auth.log"',
        ),
        (["ines", "knot", "--", "/bin/cat"], "whom to run as differs: the rule allows tomas, asked was root"),
        (["ines", "knot", "--", "/bin/id"], "the host differs: the rule is for tern, this is knot"),
        (["rada", "knot", "--", "/usr/bin/status"], "the path differs: the rule allows /bin/status, asked was /usr/bin/status"),
    ],
)
def test_a_refusal_tells_what_came_nearest(words: list[str], differs: str, tmp_path: Path) -> None:
    ran = may(tmp_path, *words)
    assert ran.status == 1
    assert f"near: {differs}\n" in ran.out
    document = may(tmp_path, "--format", "json", *words).json
    check_schema("may", document)
    assert document["near"][0]["differs"] == differs


def test_a_bare_name_is_taken_to_be_what_the_policy_names(tmp_path: Path) -> None:
    ran = may(tmp_path, "rada", "knot", "--", "restart", "web")
    assert ran.status == 0
    assert "  restart is /bin/restart\n" in ran.out


def test_run_as_and_time_and_host_can_be_asked_for(tmp_path: Path) -> None:
    assert may(tmp_path, "ines", "knot", "--as", "tomas", "--", "/bin/cat").status == 0
    assert may(tmp_path, "ines", "knot", "--host", "tern", "--", "/bin/id").status == 0
    assert may(tmp_path, "ines", "knot", "--at", "tomorrow", "--", "/bin/id").status == 2
    assert may(tmp_path, "nosuch", "knot", "--", "/bin/id").err == 'fidelitas: there is no account "nosuch"\n'
    assert may(tmp_path, "ines", "--", "/bin/id").status == 2


def test_a_policy_that_is_nowhere_in_force_can_be_asked(tmp_path: Path) -> None:
    root = grow(tmp_path / "root", "rada ALL = /bin/id\n")
    put(tmp_path / "new", "ines ALL = /bin/id\n")
    assert fidelitas("may", "--root", root, "rada", "--", "/bin/id", cwd=tmp_path).status == 0
    assert fidelitas("may", "--root", root, "--policy", "new", "rada", "--", "/bin/id", cwd=tmp_path).status == 1
    assert fidelitas("may", "--root", root, "--policy", "new", "ines", "--", "/bin/id", cwd=tmp_path).status == 0
    assert fidelitas("may", "--root", root, "--policy", "gone", "ines", "--", "/bin/id", cwd=tmp_path).status == 4


def test_a_batch_answers_every_line_and_no_bad_one_costs_another(tmp_path: Path) -> None:
    root = grow(tmp_path / "root", "ines ALL = \\\n  NOPASSWD: /bin/id\nrada tern, 10.1.0.0/16 = ALL\n")
    questions = [
        {"id": 1, "account": "ines", "command": ["/bin/id"]},
        {"id": 2, "account": "ines", "command": ["/bin/ls"]},
        {"id": "x", "account": "nosuch", "command": ["/bin/ls"]},
        {"id": 3, "account": "rada", "command": ["/bin/ls"], "host": "tern"},
        {"id": 4, "account": "rada", "command": ["/bin/ls"], "host": "a", "addresses": ["10.1.2.3/24"]},
        {"id": 5, "account": "rada", "command": ["/bin/ls"], "host": "a", "addresses": ["junk"]},
        {"id": 6, "account": "rada", "command": "ls"},
        [1],
        {"id": 7, "account": "ines", "command": ["/bin/id"], "at": "soon"},
    ]
    lines = [json.dumps(question) for question in questions] + ["{", "[" * 100_000, ""]
    put(tmp_path / "questions", "\n".join(lines))
    answers = [json.loads(line) for line in fidelitas("may", "--root", root, "--batch", "questions", cwd=tmp_path).out.splitlines()]
    for answer in answers:
        check_schema("may-answer", answer)
    told = [(answer["id"], answer.get("decision"), answer.get("password"), "error" in answer) for answer in answers]
    assert told == [
        (1, "allowed", False, False),
        (2, "no-rule", None, False),
        ("x", None, None, True),
        (3, "allowed", True, False),
        (4, "allowed", True, False),
        (5, None, None, True),
        (6, None, None, True),
        (None, None, None, True),
        (7, None, None, True),
        (None, None, None, True),
        (None, None, None, True),
    ]
    assert answers[0]["rule"] == {"path": "/etc/sudoers", "line": 2, "column": 13, "first_line": 2}


def test_files_below_the_root_count(tmp_path: Path) -> None:
    root = grow(tmp_path / "root", "ines ALL = /bin/id, /opt/*/run, /srv/\nDefaults secure_path=/bin\n")
    for name in ("bin/id", "opt/a/run", "opt/a/b/run", "srv/x", "srv/sub/y", "etc/id"):
        put(root / name, name, 0o755)
    (root / "usr").symlink_to("/")
    cases = {
        "/bin/id": 0,
        "id": 0,
        "/usr/bin/id": 0,
        "/etc/id": 1,
        "/opt/a/run": 0,
        "/opt/a/b/run": 1,
        "/opt/c/run": 1,
        "/srv/x": 0,
        "/srv/sub/y": 1,
    }
    assert {path: fidelitas("may", "--root", root, "ines", "--", path, cwd=tmp_path).status for path in cases} == cases


def test_what_is_not_known_is_taken_as_no_and_said(tmp_path: Path) -> None:
    fidelitas("survey", handed_in(tmp_path, sudoers="rada 10.0.0.0/8 = ALL\nines knot, !10.0.0.0/8 = ALL\n"), cwd=tmp_path)
    ran = fidelitas("may", "rada", "knot", "--", "/bin/id", cwd=tmp_path)
    assert ran.status == 1
    assert "it is not known whether this host has an address in 10.0.0.0/8; assumed false" in ran.out
    assert fidelitas("may", "ines", "knot", "--", "/bin/id", cwd=tmp_path).status == 0


# -- account -----------------------------------------------------------------------------------------------------------------------


def test_an_account_has_a_page(tmp_path: Path) -> None:
    fidelitas("survey", handed_in(tmp_path, sudoers=POLICY), cwd=tmp_path)
    out = fidelitas("account", "rada", cwd=tmp_path).out
    assert "group gauges  /etc/group:7:1" in out
    assert (
        "may run /bin/restart web\n      %gauges → sudo, asks for no password, direct\n      /etc/sudoers:3:1    STAFF ALL = (root) NOPASSWD: WEB\n"
        in out
    )
    check_schema("account", fidelitas("account", "rada", "--format", "json", cwd=tmp_path).json)
    assert fidelitas("account", "nosuch", cwd=tmp_path).status == 2


# -- rehearse ----------------------------------------------------------------------------------------------------------------------


def rehearsed(tmp_path: Path, before: str, after: str, *options: str):  # type: ignore[no-untyped-def]  # noqa: ANN201
    fidelitas("survey", handed_in(tmp_path, sudoers=before), cwd=tmp_path)
    put(tmp_path / "new", after)
    return fidelitas("rehearse", "--policy", "new", *options, cwd=tmp_path)


def test_a_change_is_told_in_rights_and_not_in_text(tmp_path: Path) -> None:
    ran = rehearsed(tmp_path, "ines ALL=ALL\ntomas ALL=ALL\n", "# moved\ntomas ALL=NOPASSWD: ALL\nrada ALL=/bin/id\n")
    assert ran.status == 0
    assert ran.out == (
        "rights gained by 1 holder; lost by 1 holder; held on other terms by 1 holder\n"
        "\n"
        "knot\n"
        "  rada gains command:/bin/id  (sudo, /etc/sudoers:3:1)\n"
        "  ines loses root  (sudo, /etc/sudoers:1:1)\n"
        "  tomas holds root on other terms: asked for own password, direct → not asked for a password, direct  (/etc/sudoers:2:1)\n"
    )
    same = rehearsed(tmp_path, "ines ALL=ALL\n", "# the same\nines  ALL = ( ALL ) ALL\n", "--format", "json")
    check_schema("rehearsal", same.json)
    assert same.json["subjects"][0]["gained"] == same.json["subjects"][0]["lost"] == []


def test_an_error_is_marked_and_ends_with_4(tmp_path: Path) -> None:
    ran = rehearsed(tmp_path, "", "%sudo ALL=ALL\nines ALL=(ALL /bin/id\nDefaults nosuch\n")
    assert ran.status == 4
    assert 'new:2:22: syntax error: expected ")" after the run-as list\n    ines ALL=(ALL /bin/id\n                  ~~~~~~~^\n' in ran.out
    document = rehearsed(tmp_path, "", "%sudo ALL=ALL\nines ALL=(ALL /bin/id\nDefaults nosuch\n", "--format", "json").json
    assert [(one["line"], one["column"]) for one in document["errors"]] == [(2, 22), (3, 16)]


@pytest.mark.parametrize(
    ("root", "after", "warning"),
    [
        ("{none}", "", "nobody could become root"),
        ("{none}", "daemon ALL=ALL\n", "nobody who can log in could become root; left are daemon"),
        ("{none}", "ines ALL=ALL\n", None),
        (
            "{usable sha512}",
            "",
            "everyone who can become root by sudo now would lose it (ines); routes left: root itself, with its password or a key",
        ),
    ],
)
def test_a_lock_out_is_said_loudly(root: str, after: str, warning: str | None, tmp_path: Path) -> None:
    files = {"/etc/shadow": SHADOW.replace("root:{none}", f"root:{root}"), "/etc/passwd": PASSWD, "/etc/group": GROUP}
    fidelitas("survey", handed_in(tmp_path, sudoers="%sudo ALL=ALL\n", files=files), cwd=tmp_path)
    put(tmp_path / "new", after)
    ran = fidelitas("rehearse", "--policy", "new", cwd=tmp_path)
    assert ran.status == (1 if warning else 0)
    assert (f"LOCK-OUT on knot: {warning}" in ran.out) is bool(warning)


# -- charter -----------------------------------------------------------------------------------------------------------------------


def chartered(tmp_path: Path, charter: str, *options: str):  # type: ignore[no-untyped-def]  # noqa: ANN201
    if not (tmp_path / "ledger").exists():
        fidelitas("survey", handed_in(tmp_path, sudoers=POLICY), cwd=tmp_path)
    put(tmp_path / "charter.toml", charter)
    return fidelitas("charter", "check", "charter.toml", *options, cwd=tmp_path)


CLAUSE = '[[{kind}]]\naccount = "{account}"\non = "{on}"\ncommand = "{command}"\n'


@pytest.mark.parametrize(
    ("kind", "account", "on", "command", "status"),
    [
        ("must", "rada", "knot", "/bin/restart web", 0),
        ("must", "rada", "knot", "/bin/restart db", 1),
        ("never", "rada", "knot", "/bin/sh", 0),
        ("never", "rada", "knot", "/bin/status", 1),
        ("never", "nosuch", "knot", "/bin/sh", 2),
        ("must", "nosuch", "knot", "/bin/sh", 2),
        ("must", "rada", "tern", "/bin/status", 2),
    ],
)
def test_musts_and_nevers(kind: str, account: str, on: str, command: str, status: int, tmp_path: Path) -> None:
    charter = "format = 1\n" + CLAUSE.format(kind=kind, account=account, on=on, command=command)
    assert chartered(tmp_path, charter).status == status
    ran = chartered(tmp_path, charter, "--format", "json")
    if status < 2:
        check_schema("charter", ran.json)


def test_a_change_is_tested_against_the_charter_before_it_is_made(tmp_path: Path) -> None:
    charter = "format = 1\n" + CLAUSE.format(kind="never", account="rada", on="knot", command="/bin/status")
    put(tmp_path / "new", "root ALL=ALL\n")
    assert chartered(tmp_path, charter).status == 1
    assert chartered(tmp_path, charter, "--policy", "new").status == 0


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("format = 2", 'does not say "format = 1"'),
        ("format = 1\nx = 1", "has unknown parts: x"),
        ("[[must", "is not TOML"),
        ("format = 1\n[must]\na = 1", "write [[must]] with two brackets"),
        (
            'format = 1\n[[must]]\naccount = "a"\non = "b"\ncommand = 5',
            '[[must]] number 1: "command" must be a command line or a list of words',
        ),
        ("format = 1\n[[never]]\nwho = 1", "unknown field who"),
        ('format = 1\n[[never]]\naccount = []\non = "b"\ncommand = "x"', '"account" must be a text or a list of texts'),
        ('format = 1\n[[never]]\naccount = "a"\non = "b"\ncommand = "\\"x"', "cannot be split into words"),
    ],
)
def test_a_charter_that_is_not_as_documented_is_refused_in_words(text: str, message: str, tmp_path: Path) -> None:
    ran = chartered(tmp_path, text)
    assert ran.status == 2
    assert message in ran.err
    assert ran.err.count("\n") == 1


def test_the_environment_decides_nothing(tmp_path: Path) -> None:
    """The same question gives the same answer in another folder and with another search path."""
    fidelitas("survey", handed_in(tmp_path, sudoers=POLICY), cwd=tmp_path)
    words = ("may", "rada", "knot", "--format", "json", "--at", "2026-11-20", "--", "/bin/status")
    answers = [fidelitas(*words, cwd=tmp_path, env=env).json for env in ({}, {"PATH": os.environ["PATH"] + ":/nowhere"})]
    assert {**answers[0], "made": None} == {**answers[1], "made": None}


# -- memberships and comparisons ---------------------------------------------------------------------------------------------------

DOCKER = {"/etc/group": GROUP + "docker:x:120:tomas\n", "/etc/passwd": PASSWD, "/etc/shadow": SHADOW}


def surveyed(tmp_path: Path, sudoers: str = "%sudo ALL=(ALL) ALL\n") -> Path:
    fidelitas("survey", handed_in(tmp_path, sudoers=sudoers, files=DOCKER), cwd=tmp_path)
    return tmp_path


def changes(folder: Path, *options: str) -> list[tuple[str, str, str]]:
    (one,) = fidelitas("rehearse", *options, "--format", "json", cwd=folder).json["subjects"]
    told = [(kind, row["holder"]["name"], row["right"]) for kind in ("gained", "lost") for row in one[kind]]
    return sorted(told)


def test_a_membership_is_rehearsed_before_it_is_given(tmp_path: Path) -> None:
    folder = surveyed(tmp_path)
    assert changes(folder, "--add-member", "sudo", "rada") == [("gained", "rada", "root")]
    assert changes(folder, "--remove-member", "docker", "tomas") == [("lost", "tomas", "root")]
    assert changes(folder, "--like", "tomas", "rada", "vesna") == [("gained", "rada", "root"), ("gained", "vesna", "root")]
    assert changes(folder, "--like", "rada", "tomas") == []


def test_gains_that_the_charter_does_not_sanction_are_warned_of(tmp_path: Path) -> None:
    folder = surveyed(tmp_path)
    put(folder / "charter.toml", 'format = 1\n[[must]]\naccount = "rada"\non = "knot"\ncommand = "ALL"\n')
    out = fidelitas("rehearse", "--like", "tomas", "--charter", "charter.toml", "rada", "vesna", cwd=folder).out
    assert out == (
        "rights gained by 2 holders; lost by 0 holders; held on other terms by 0 holders\n"
        "\n"
        "memberships on knot\n"
        "  rada gains docker\n"
        "  vesna gains docker\n"
        "    gpasswd --add=rada -- docker\n"
        "    gpasswd --add=vesna -- docker\n"
        "\n"
        "knot\n"
        "  rada gains root  (%docker → group docker, /etc/group:8:1), from the next logon\n"
        "  vesna gains root  (%docker → group docker, /etc/group:8:1), from the next logon\n"
        "    warning: the charter does not sanction this\n"
    )


@pytest.mark.parametrize(
    ("options", "message"),
    [
        ([], "nothing to rehearse"),
        (["--add-member", "sudo"], "memberships and accounts go together"),
        (["ines"], "nothing to rehearse"),
        (["--add-member", "nosuch", "ines"], 'there is no group "nosuch" in evidence'),
        (["--add-member", "sudo", "nobody"], 'there is no account "nobody" in evidence'),
    ],
)
def test_memberships_that_cannot_be_rehearsed(options: list[str], message: str, tmp_path: Path) -> None:
    ran = fidelitas("rehearse", *options, cwd=surveyed(tmp_path))
    assert (ran.status, message in ran.err) == (2, True)


def test_two_accounts_are_compared(tmp_path: Path) -> None:
    folder = surveyed(tmp_path)
    document = fidelitas("compare", "ines", "tomas", "--format", "json", cwd=folder).json
    assert [(one["what"], one["name"], one["first"], one["second"]) for one in document["compared"]] == [
        ("group", "docker", False, True),
        ("group", "sudo", True, False),
        ("right", "root", True, True),
    ]
    assert "ines and ines hold the same" in fidelitas("compare", "ines", "ines", cwd=folder).out
    assert fidelitas("compare", "ines", "nobody", cwd=folder).err == (
        'fidelitas: no subject in evidence has an account or group "nobody". Known are: '
        "%daemon, %docker, %gauges, %ines, %rada, %root, %sudo, %tomas, daemon, ines and others.\n"
    )


def test_a_policy_for_many_hosts_is_asked_about_each(tmp_path: Path) -> None:
    """``%h`` in an include: the file of whichever host is asked about is read; one that is not there is said to be missing."""
    (tmp_path / "root/etc").mkdir(parents=True)
    files = {"passwd": PASSWD, "group": GROUP, "hostname": "knot\n", "sudoers": "@include /etc/sudoers.%h\n"}
    for name, text in {**files, "sudoers.knot": "ines ALL = /bin/a\n", "sudoers.tern": "ines ALL = /bin/b\n"}.items():
        (tmp_path / "root/etc" / name).write_text(text)
        (tmp_path / "root/etc" / name).chmod(0o440 if "sudoers" in name else 0o644)
    answers = {
        host: fidelitas("may", "--root", "root", "--host", host, "ines", "--", "/bin/b", cwd=tmp_path) for host in ("knot", "tern", "ruff")
    }
    assert {host: ran.status for host, ran in answers.items()} == {"knot": 1, "tern": 0, "ruff": 1}
    assert "/etc/sudoers.ruff, which the policy includes: its content is not in evidence" in answers["ruff"].out


def test_where_a_command_is_looked_for_can_be_stated_and_is_said_where_it_is_not(tmp_path: Path) -> None:
    for name, text in {"passwd": PASSWD, "group": GROUP, "hostname": "knot\n", "sudoers": "ines ALL = /opt/tool\n"}.items():
        (tmp_path / "root/etc").mkdir(parents=True, exist_ok=True)
        (tmp_path / "root/etc" / name).write_text(text)
        (tmp_path / "root/etc" / name).chmod(0o440 if name == "sudoers" else 0o644)
    (tmp_path / "root/opt").mkdir()
    (tmp_path / "root/opt/tool").write_text("x")
    (tmp_path / "root/opt/tool").chmod(0o755)

    def ask(*words: str) -> Ran:
        return fidelitas("may", "--root", "root", *words, cwd=tmp_path)

    assert ask("--in", "/opt", "ines", "--", "./tool").status == ask("--in", "/opt/x/..", "ines", "--", "./tool").status == 0
    assert ask("--path", "/bin:/opt", "ines", "--", "tool").status == 0
    unstated = ask("ines", "--", "./tool")
    assert unstated.status == 1
    assert "./tool is a file of the folder that sudo is started in, which is not stated" in unstated.out
    assert "tool is looked for in the PATH of ines, which is not stated" in ask("ines", "--", "tool").out


# -- what would allow it ------------------------------------------------------------------------------------------------------------

ODD = [
    ["/bin/restart", "tide-ingest.service"],
    ["/bin/status"],
    ["/bin/echo", "a,b", "c=d", "e:f", "g\\h"],
    ["/usr/bin/find", "/srv", "-name", "*.nc", "[ab]?"],
    ["/opt/tide/run@7", "--all"],
]


@pytest.mark.judge
@pytest.mark.parametrize("command", ODD, ids=" ".join)
def test_the_rule_that_is_offered_is_one_and_allows_just_that(command: list[str], tmp_path: Path, need: Callable[..., None]) -> None:
    need("visudo")
    policy = tmp_path / "sudoers"
    policy.write_text("ines ALL = /bin/restart web\n")
    folder = tmp_path / "root"
    put(grow(folder) / "etc/sudoers", policy.read_bytes())
    question = ("may", "--root", "root", "--format", "json")
    first = fidelitas(*question, "tomas", "--", *command, cwd=tmp_path)
    assert first.status == 1
    (obstacle,) = first.json["obstacles"]
    assert (obstacle["kind"], obstacle["cause"]) == ("no-rule", "no rule of sudo on this host is about tomas")
    policy.write_text(f"{policy.read_text()}{obstacle['rule']}\n")
    assert subprocess.run(["visudo", "-c", "-f", policy], capture_output=True, check=False).returncode == 0
    put(folder / "etc/sudoers", policy.read_bytes())
    assert fidelitas(*question, "tomas", "--", *command, cwd=tmp_path).status == 0
    assert fidelitas(*question, "tomas", "--", *command, "more", cwd=tmp_path).status == 1


def test_why_she_is_refused_is_one_sentence_with_its_remedy(tmp_path: Path) -> None:
    ran = may(tmp_path, "tomas", "knot", "--", "/bin/restart", "web")
    lines = ran.out.splitlines()
    assert lines[0].startswith("refused: tomas may not run /bin/restart web as root on knot: ")
    assert lines[1].startswith("To allow it: ")


def test_the_nearest_rule_is_the_one_that_differs_least(tmp_path: Path) -> None:
    rules = "tomas ALL = /bin/systemctl status tide-ingest, /bin/systemctl restart tide-ingest, /bin/systemctl stop gauges\n"
    put(grow(tmp_path / "root") / "etc/sudoers", rules.encode())
    document = fidelitas(
        "may", "--root", "root", "--format", "json", "tomas", "--", "/bin/systemctl", "restart", "tide-ingest.service", cwd=tmp_path
    )
    assert document.json["near"][0]["allowed"] == "restart tide-ingest"
    assert document.json["obstacles"][0]["remedy"].startswith("run it with the arguments of the rule (restart tide-ingest)")
