"""Narrower policies: what is allowed is what was used and no more; nothing that gives root is kept; every use is replayed."""

import os
import random
import re
import shutil
import subprocess
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from fidelitas.evidence import make_bundle
from fidelitas.facts import Command, Event, EventKind, SudoRule
from fidelitas.inquiry import Inquiry
from fidelitas.languages.linux.host import read_host
from fidelitas.narrowing import HostCase, Left, Narrowing, Proposal, gather_uses, narrow, shared_policies
from fidelitas.narrowing.fates import instead_of
from fidelitas.narrowing.forms import forms_of
from fidelitas.narrowing.spelling import spelled_command, spelled_members, spelled_options, spelled_run_as, spelled_tags
from fidelitas.patterns import wildcard_matches
from fidelitas.rights import HostRights
from fidelitas.rights.linux.sudo import Question
from fidelitas.text import Place
from policy_writer import ARGUMENTS, COMMANDS, PolicyWriter
from support import NOW, PASSWD, Ran, bundle, fidelitas
from test_cli import check_schema

WORLDS = int(os.environ.get("JUDGE_WORLDS", "30"))
WORDS = st.text(alphabet="abz019._/-=,:+*?[]\\ ", min_size=1, max_size=8).map(lambda text: " ".join(text.split()) or "a")


def used(command: str, account: str = "ines", days: int = 1, terminal: str = "pts/1", target: str = "root") -> list[Event]:
    """Return uses of a command on some days, the last on the eve of the evidence."""
    return [
        Event(
            at=NOW - timedelta(days=day), place=Place("knot", "/var/log/auth.log", 100 - day), pid=7, kind=EventKind.USED, program="sudo",
            host="knot", account=account, target=target, command=command, terminal=terminal,
        )
        for day in range(days, 0, -1)
    ]  # fmt: skip


def narrowed(policy: str, events: list[Event], version: str = "1.9.13p3", **asked: Any) -> Proposal:
    evidence = bundle(policy)
    evidence.listings["sudo-version"] = f"Sudo version {version}\n".encode()  # type: ignore[index]
    found = narrow([HostCase("knot", evidence, gather_uses(events))], lambda _: True, Narrowing(**asked))
    for one in found.rehearsals:
        assert isinstance(one.before, HostRights)
        assert isinstance(one.after, HostRights)
        assert len(one.after.facts.policy.gaps) <= len(one.before.facts.policy.gaps), found.files
    return found


def text_of(found: Proposal) -> str:
    """Return the rules of a proposed main file, without comments and wrapping."""
    text = found.files.get("/etc/sudoers", b"").decode().replace(" \\\n   ", "")
    return "\n".join(line for line in text.split("\n") if line and not line.startswith("#"))


# Each: the policy, the uses, and the rules that take its place.
LONG = 40
CASES: dict[str, tuple[str, list[Event], str]] = {
    "exact commands of a group": (
        "%sudo ALL=(ALL:ALL) ALL",
        [*used("/usr/bin/apt update", days=LONG), *used("/usr/bin/systemctl restart tides", days=LONG)],
        "%sudo ALL = (root) /usr/bin/apt update, /usr/bin/systemctl restart tides",
    ),
    "no arguments": ("ines ALL = ALL", used("/usr/bin/uptime", days=LONG), 'ines ALL = (root) /usr/bin/uptime ""'),
    "signs that sudoers gives a meaning": (
        "ines ALL = ALL",
        used("/opt/x a=b c,d e:f g*h [i] j\\\\k", days=LONG),
        r"ines ALL = (root) /opt/x a\=b c\,d e\:f g\*h \[i\] j\\\\k",
    ),
    "a pager": (
        "ines ALL = ALL",
        used("/usr/bin/journalctl -u tides", days=LONG),
        "ines ALL = (root) /usr/bin/journalctl --no-pager -u tides",
    ),
    "an editor": ("ines ALL = ALL", used("/usr/bin/vim /etc/tides.conf", days=LONG), "ines ALL = (root) sudoedit /etc/tides.conf"),
    "an editor on what decides who is root": ("ines ALL = ALL", used("/usr/bin/vim /etc/sudoers", days=LONG), ""),
    "a shell": ("ines ALL = ALL", used("/bin/bash", days=LONG), ""),
    "a program that its user can write": ("ines ALL = ALL", used("/home/ines/tool.sh", days=LONG), ""),
    "a setuid bit": ("ines ALL = ALL", used("/usr/bin/chmod 4755 /srv/tool", days=LONG), ""),
    "a script of root's own": ("ines ALL = ALL", used("/bin/sh /opt/x.sh", days=LONG), "ines ALL = (root) /bin/sh /opt/x.sh"),
    "a script that is the user's own": ("ines ALL = ALL", used("/usr/bin/python3 /home/ines/x.py", days=LONG), ""),
    "a script by its name alone": ("ines ALL = ALL", used("/bin/bash x.sh", days=LONG), ""),
    "a secret": ("ines ALL = ALL", used("/usr/bin/cat /etc/shadow", days=LONG), ""),
    "another account by su": ("ines ALL = ALL", used("/usr/bin/su - tomas", days=LONG), ""),
    "another account": (
        "ines ALL = (ALL) ALL",
        used("/opt/model run", target="vesna", days=LONG),
        "ines ALL = (vesna) /opt/model run",
    ),
    "without a terminal": (
        "ines ALL = NOPASSWD: ALL",
        [*used("/opt/nightly", terminal="", days=LONG), *used("/opt/by-hand", days=LONG)],
        'ines ALL = (root) NOPASSWD: /opt/nightly ""\nines ALL = (root) PASSWD: /opt/by-hand ""',
    ),
    "leave to set variables": ("ines ALL = SETENV: NOEXEC: /opt/x", used("/opt/x 1", days=LONG), "ines ALL = (root) NOEXEC: /opt/x 1"),
    "bans stay where they were": (
        "ines ALL = /opt/*, !/opt/y, /opt/z *",
        [*used("/opt/x 1", days=LONG), *used("/opt/z 2", days=LONG)],
        "ines ALL = (root) /opt/x 1\nines ALL = !/opt/y\nines ALL = (root) /opt/z 2",
    ),
    "what all of a list is used": ("ines ALL = /opt/x 1, /opt/y 2", [*used("/opt/x 1"), *used("/opt/y 2")], ""),
    "root's own": ("root ALL = (ALL:ALL) ALL", used("/opt/x", account="root"), ""),
    "unused": ("ines ALL = ALL\nrada ALL = ALL", used("/opt/x 1", days=LONG), "ines ALL = (root) /opt/x 1"),
    "other hosts": ("ines ALL = ALL\nines tern = ALL", used("/opt/x 1", days=LONG), "ines ALL = (root) /opt/x 1\nines tern = ALL"),
    "rare use": (
        "ines ALL = ALL",
        [*used("/opt/x 1", days=LONG), *used("/opt/yearly")],
        'ines ALL = (root) /opt/x 1\nines ALL = (root) /opt/yearly ""',
    ),
    "numbers of a program of their own": (
        "ines ALL = /opt/gauge",
        [event for number in range(3, 40) for event in used(f"/opt/gauge --zero {number}", days=3)],
        "ines ALL = (root) /opt/gauge ^--zero [0-9]{1,2}$",
    ),
    "many values": (
        "ines ALL = ALL",
        [event for name in "abcdefghijkl" for event in used(f"/usr/bin/systemctl restart tide-{name}.service", days=3)],
        "ines ALL = (root) /usr/bin/systemctl ^restart ("
        + "|".join(f"tide-{name}[.]service" for name in "abcdefghijkl") + ")$",
    ),
}  # fmt: skip


@pytest.mark.parametrize(("policy", "events", "rules"), CASES.values(), ids=CASES)
def test_what_was_used_takes_the_place_of_a_statement(policy: str, events: list[Event], rules: str) -> None:
    assert text_of(narrowed(policy, events)) == rules


def test_rules_for_accounts_name_those_that_used_the_same_together() -> None:
    policy = "ALL ALL = ALL"
    events = [event for name in ("ines", "rada") for event in used("/opt/x 1", name, LONG)] + used("/opt/y 2", "tomas", LONG)
    assert text_of(narrowed(policy, events, by_account=True)) == "ines, rada ALL = (root) /opt/x 1\ntomas ALL = (root) /opt/y 2"


def test_rare_use_that_hands_over_root_is_kept_apart_and_granted_only_where_that_is_asked_for() -> None:
    events = [*used("/opt/x 1", days=90), *used("/usr/bin/bash")]
    found = narrowed("ines ALL = NOPASSWD: ALL", events)
    assert "# break-glass, not granted: 1 use by ines" in found.files["/etc/sudoers"].decode()
    assert [one.use.command for one in found.lost] == ["/usr/bin/bash"]
    kept = narrowed("ines ALL = NOPASSWD: ALL", events, keep_break_glass=True)
    assert 'ines ALL = (root) PASSWD: /usr/bin/bash ""' in text_of(kept)
    assert not kept.lost


def test_what_leads_to_an_administrator_is_let_go_of_by_the_rights_of_the_narrower_policy() -> None:
    events = used("/usr/bin/passwd tomas", days=LONG)
    assert not text_of(narrowed("ines ALL = ALL\ntomas ALL = ALL", events, keep_unused=True)).startswith("ines")
    assert "ines ALL = (root) /usr/bin/passwd tomas" in text_of(narrowed("ines ALL = ALL\ntomas ALL = ALL", events))


def test_an_old_sudo_gets_no_regular_expression() -> None:
    events = [event for number in range(20) for event in used(f"/opt/gauge {number}", days=2)]
    rules = text_of(narrowed("ines ALL = ALL", events, version="1.9.5p2"))
    assert "^" not in rules
    assert rules.count("/opt/gauge ") == 20


@pytest.mark.parametrize(
    ("name", "written"),
    [("OPS", '"OPS"'), ("web app", '"web app"'), ("CORP\\vesna", None), ('a"b', None), ("%sudo", None), ("a,b", '"a,b"')],
)
def test_an_account_with_the_name_of_an_alias_or_a_group_stays_an_account(name: str, written: str | None) -> None:
    files = {"/etc/passwd": PASSWD + f"{name}:x:1777:1777::/:/bin/sh\n"}
    evidence = bundle("User_Alias OPS = ALL\nALL ALL = (ALL) ALL\n", files)
    events = [*used("/opt/x 1", name, LONG), *used("/opt/y 2", "ines", LONG, target=name)]
    found = narrow([HostCase("knot", evidence, gather_uses(events))], lambda _: True, Narrowing(by_account=True))
    rules = text_of(found)
    if written is None:
        assert found.narrowed[0].left is Left.NO_FORM
    else:
        assert f"{written} ALL = (root) /opt/x 1" in rules
        assert f"ines ALL = ({written}) /opt/y 2" in rules
        again = Inquiry(bundle(found.files["/etc/sudoers"].decode(), files))
        for account in ("tomas", "rada"):
            assert not again.decision(account, None, ("/opt/x", "1")).rule


def test_hosts_with_the_same_policy_share_one_proposal() -> None:
    cases = [HostCase(name, bundle("ines ALL = ALL").named(name), gather_uses(used(f"/opt/{name} 1"))) for name in ("knot", "tern")]
    cases.append(HostCase("rail", bundle("ines ALL = (ALL) ALL").named("rail"), []))
    shared = shared_policies(cases)
    assert [[case.subject for case in some] for some in shared] == [["knot", "tern"], ["rail"]]
    found = narrow(shared[0], lambda _: True, Narrowing())
    assert text_of(found) == "ines ALL = (root) /opt/knot 1, /opt/tern 1"
    assert not found.lost


# -- laws ----------------------------------------------------------------------------------------------------------------------------


@given(st.sets(st.lists(WORDS, max_size=4).map(" ".join), max_size=40), st.booleans(), st.booleans())
def test_forms_allow_what_was_seen(texts: set[str], expressions: bool, bounds: bool) -> None:
    texts = {" ".join(text.split()) for text in texts}
    for form in forms_of(texts, expressions=expressions, bounds=bounds):
        assert set(form.seen) <= texts
        for text in form.seen:
            assert allows(form.pattern, text)
        for text in texts - set(form.seen):
            assert form.bounded or not allows(form.pattern, text)
        for text in form.seen:
            assert not allows(form.pattern, text + " -x")
            assert not allows(form.pattern, f"{text}/../../etc/shadow")
            assert not allows(form.pattern, "-x " + text)


def allows(pattern: str, text: str) -> bool:
    if pattern.startswith("^"):
        return re.fullmatch(pattern.replace("[.]", r"\.").replace("[+]", r"\+"), text) is not None
    return wildcard_matches(pattern, text, path=False) if pattern else not text


def spelled(rule: SudoRule) -> str:
    member = rule.command
    bang = "!" if member.negated else ""
    command = member.value
    if member.command is not None:
        digests = "".join(f"{algorithm}:{value} " for algorithm, value in member.command.digests)
        command = f"{digests}{bang}{spelled_command(Command(path=member.command.path, arguments=member.command.arguments))}"
    else:
        command = f"{bang}{command}"
    rest = f"{spelled_run_as(rule)}{spelled_options(rule.options)}{spelled_tags(rule.tags)}"
    return f"{spelled_members(rule.users)} {spelled_members(rule.hosts)} = {rest}{command}"


@pytest.mark.parametrize("seed", range(60))
def test_what_is_written_is_read_back_the_same(seed: int) -> None:
    rules = read_host(bundle(PolicyWriter(seed).files()["/etc/sudoers"])).policy.rules
    for rule in rules:
        try:
            text = spelled(rule)
        except ValueError:
            continue
        again = read_host(bundle(text)).policy
        assert not again.gaps, text
        assert len(again.rules) == 1, text
        for name in ("users", "hosts", "run_as_users", "run_as_groups", "tags", "options", "command"):
            assert getattr(again.rules[0], name) == getattr(rule, name), (name, text, rule.statement)


def random_uses(chance: random.Random) -> list[Event]:
    found = []
    for _ in range(60):
        command = " ".join([chance.choice(COMMANDS), chance.choice(ARGUMENTS)]).strip()
        found += used(
            command,
            chance.choice(["ines", "tomas", "rada", "vesna"]),
            chance.choice([1, 3, 40]),
            chance.choice(["pts/1", "pts/2", ""]),
            chance.choice(["root", "root", "rada"]),
        )
    return found


@pytest.mark.parametrize("seed", range(WORLDS))
def test_a_narrower_policy_allows_nothing_more_and_asks_for_no_less(seed: int) -> None:
    chance = random.Random(seed)
    policy = "Runas_Alias NOBODY = nobody\n" + PolicyWriter(seed).files()["/etc/sudoers"]
    before = Inquiry(bundle(policy))
    by_account = chance.random() < 0.5
    found = narrowed(policy, random_uses(chance), by_account=by_account, keep_unused=chance.random() < 0.3)
    edited = bundle(policy, dict(found.files))
    after = Inquiry(edited)
    # What stays, or what others of a group used without a password, may be easier than what was taken out behind it; that is warned of.
    stays = not by_account or any(one.left in (Left.UNUSED, Left.NO_FORM) for one in found.narrowed)
    replaced = {f"{one.fate.path} {one.fate.arguments}" for one in found.replayed if one.fate.kind == "replaced"}
    for one in found.replayed:
        assert one.allowed or one.fate.kind != "kept" or one.after.rule is not None, (policy, one)
    for account in ("ines", "tomas", "rada", "vesna"):
        for path in COMMANDS:
            for arguments in ARGUMENTS:
                if f"{path} {arguments}" in replaced:
                    continue
                question = Question(account=account, command=(path, *arguments.split()), run_as=chance.choice(["root", "rada"]), at=NOW)
                old, new = before.ask(question).decision, after.ask(question).decision
                if new.verdict.value == "allowed":
                    assert old.verdict.value == "allowed", (policy, edited.files["/etc/sudoers"].decode(), question)
                    assert new.password or not old.password or stays, (policy, edited.files["/etc/sudoers"].decode(), question)


# -- the built program, and real sudo ------------------------------------------------------------------------------------------------


LOG = """\
2026-10-0{day}T09:00:00+00:00 knot sudo:     ines : TTY=pts/1 ; PWD=/home/ines ; USER=root ; COMMAND=/usr/bin/apt update
2026-10-0{day}T09:05:00+00:00 knot sudo:     ines : TTY=pts/1 ; PWD=/home/ines ; USER=root ; COMMAND=/usr/bin/journalctl -u tides
2026-10-0{day}T09:10:00+00:00 knot sudo:     rada : PWD=/ ; USER=root ; COMMAND=/opt/tide/nightly --keep {day}
"""
MASKED = "2026-10-09T10:00:00+00:00 knot sudo: ines : TTY=pts/1 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/mysql --password=hunter2 tides\n"
SHELL = "2026-10-09T11:00:00+00:00 knot sudo: ines : TTY=pts/1 ; PWD=/ ; USER=root ; COMMAND=/bin/bash\n"
GONE = "2026-10-09T12:00:00+00:00 knot sudo: gone : TTY=pts/1 ; PWD=/ ; USER=root ; COMMAND=/bin/ls\n"
POLICY = "root ALL=(ALL:ALL) ALL\n%sudo ALL=(ALL:ALL) ALL\nrada ALL=(root) NOPASSWD: /opt/tide/nightly\ntomas ALL=(ALL) ALL\n@includedir /etc/sudoers.d\n"


@pytest.fixture(scope="module")
def surveyed(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Return a folder with a ledger of three hosts, of which two have the same policy and one has no log, and the log of one."""
    folder = tmp_path_factory.mktemp("narrowing")
    for name, policy in (("knot", POLICY), ("tern", POLICY), ("rail", "ines ALL=(ALL) ALL\n")):
        evidence = bundle(policy).named(name)
        (folder / f"{name}.tar").write_bytes(make_bundle(replace(evidence.manifest, subject=name), evidence.files, evidence.listings))
    (folder / "auth.log").write_text("".join(LOG.format(day=day) for day in range(1, 9)) + MASKED + SHELL + GONE)
    assert fidelitas("survey", *(folder / f"{name}.tar" for name in ("knot", "tern", "rail")), cwd=folder).status in (0, 1, 3)
    return folder


def narrow_there(folder: Path, *arguments: str) -> Ran:
    return fidelitas("narrow", "--log", "auth.log", "--name", "knot", *arguments, cwd=folder)


def test_the_program_writes_a_policy_that_visudo_takes_and_says_what_it_would_refuse(surveyed: Path) -> None:
    ran = narrow_there(surveyed, "--on", "knot", "--out", "new", "--format", "json")
    check_schema("narrowing", ran.json)
    assert ran.status == 1, "nobody is left who becomes root by sudo"
    (policy,) = ran.json["policies"]
    assert "LOCK-OUT" not in ran.err
    assert policy["rights"][0]["lock_out"]
    fates = {one["command"]: (one["fate"], one["allowed"]) for one in policy["uses"]}
    assert fates["/usr/bin/apt update"] == ("kept", True)
    assert fates["/usr/bin/journalctl -u tides"] == ("replaced", False)
    assert fates["/bin/bash"][0] == "gives-root"
    assert [fate for command, fate in fates.items() if "mysql" in command] == [("masked", False)]
    assert policy["refused_already"] == 1
    assert "hunter2" not in ran.out
    written = (surveyed / "new/knot/etc/sudoers").read_text()
    assert written == policy["files"]["/etc/sudoers"]
    assert "%sudo ALL = (root) /usr/bin/apt update, /usr/bin/journalctl --no-pager -u tides\n" in written
    assert "rada ALL = (root) NOPASSWD: /opt/tide/nightly ^--keep [0-9]{1,1}$" not in written, "the host's sudo is not known"
    assert "NOPASSWD: \\\n" in written
    assert "# unused from 2026-10-01 to 2026-10-09; it was:\n#   tomas ALL=(ALL) ALL" in written
    if shutil.which("visudo"):
        checked = subprocess.run(["visudo", "-c", "-f", surveyed / "new/knot/etc/sudoers"], capture_output=True, text=True, check=False)
        assert "parsed OK" in checked.stdout, checked.stderr
    again = narrow_there(surveyed, "--on", "knot", "--out", "new")
    assert (again.status, again.err.count("\n")) == (2, 1)
    assert "exists" in again.err


def test_hosts_of_which_no_log_was_read_are_named(surveyed: Path) -> None:
    ran = narrow_there(surveyed, "--format", "json")
    assert ran.json["hosts_without_logs"] == ["rail", "tern"]
    text = narrow_there(surveyed)
    assert "no log of rail tern was read" in text.out
    assert "LOCK-OUT on knot" in text.out
    assert narrow_there(surveyed, "--keep-unused").status == 3, "tomas stays, and two hosts have no log"


def test_only_accounts_that_were_asked_for_change(surveyed: Path) -> None:
    (policy,) = narrow_there(surveyed, "rada", "--on", "knot", "--format", "json").json["policies"]
    assert {one["text"].split()[0]: one["left"] for one in policy["statements"]} == {
        "root": "root",
        "%sudo": "not-asked",
        "rada": None,
        "tomas": "not-asked",
    }
    assert not policy["rights"][0]["lock_out"]
    unknown = narrow_there(surveyed, "rado")
    assert (unknown.status, "did you mean" in unknown.err.lower()) == (2, True)


def test_the_table_of_other_commands() -> None:
    assert instead_of("/usr/bin/systemctl", "status x") == ("/usr/bin/systemctl", "--no-pager status x")
    assert instead_of("/bin/less", "/var/log/x") == ("/bin/cat", "/var/log/x")
    assert instead_of("/usr/bin/vim", "-u x /etc/x") is None
    assert instead_of("/usr/bin/systemctl", "--no-pager status x") is None
