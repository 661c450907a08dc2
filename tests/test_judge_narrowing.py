"""Real sudo as the judge of narrower policies: it logs what was used, accepts all of it by the narrower policy, and refuses the rest."""

import json
import os
import random
import sys
from collections.abc import Callable, Sequence
from pathlib import Path

import pytest

from test_judge_sudo import ACCOUNTS, GROUPS, HERE, in_world, write

pytestmark = pytest.mark.judge

WORLDS = int(os.environ.get("JUDGE_WORLDS", "3"))
PROGRAMS = ("/usr/bin/true", "/usr/bin/echo", "/usr/bin/printf", "/usr/bin/basename", "/usr/bin/dirname")
ARGUMENTS = (
    (), ("-n",), ("/etc/tides.conf",), ("a b",), ("a", "b"), ("a=b", "c,d"), ("e:f",), ("*",), ("[x]",), ("x?",), ("g\\h",), ("'q'",), ('"q"',),
    ("!x",), ("a#b",), ("x;", "EXIT=0"), ("TTY=pts/1", ";", "USER=root"), ("é",), ("--", "-x"), ("^a$",), ("(p)",), ("$HOME",), ("~",), ("%s",), ("",),
    ("a" * 300,), ("tab\there",),
)  # fmt: skip
POLICIES = (
    "ines ALL = (ALL) NOPASSWD: ALL\n%night ALL = (ALL : ALL) NOPASSWD: ALL\n",
    "Cmnd_Alias TOOLS = /usr/bin/true, /usr/bin/echo, !/usr/bin/echo e\\:f\nALL ALL = (root, rada) NOPASSWD: TOOLS, /usr/bin/printf *, !/usr/bin/printf -n\n",
    "User_Alias STAFF = ines, tomas\nSTAFF ALL = (ALL) NOPASSWD: /usr/bin/*, SETENV: /usr/bin/true\nrada ALL = NOPASSWD: /usr/bin/echo, /usr/bin/dirname /etc/*\n",
    "Defaults runas_default=rada\nALL, !kofi ALL = NOPASSWD: ALL, !/usr/bin/basename\n%night ALL = () NOPASSWD: /usr/bin/true\n",
)  # fmt: skip

Ask = tuple[str, str, str, Sequence[str]]


def lay_out(folder: Path, policy: str) -> None:
    (folder / "etc/sudoers.d").mkdir(parents=True)
    passwd = Path("/etc/passwd").read_text() + "".join(f"{name}:x:{uid}:{uid}::/tmp:/bin/sh\n" for name, uid in ACCOUNTS.items())
    groups = [line for line in Path("/etc/group").read_text().splitlines() if line.partition(":")[0] not in GROUPS]
    groups += [f"{name}:x:{uid}:" for name, uid in ACCOUNTS.items()] + ["night:x:4203:tomas,vesna"]
    shadow = Path("/etc/shadow").read_text() + "".join(f"{name}:$6$salt$hash:20000:0:99999:7:::\n" for name in ACCOUNTS)
    write(folder / "etc/passwd", passwd, 0o644)
    write(folder / "etc/shadow", shadow, 0o640)
    write(folder / "etc/group", "\n".join(groups) + "\n", 0o644)
    write(folder / "etc/nsswitch.conf", "passwd: files\ngroup: files\nshadow: files\nhosts: files\n", 0o644)
    write(folder / "etc/hosts", f"127.0.0.1 localhost\n127.0.1.1 {os.uname().nodename}\n", 0o644)
    header = f"Defaults logfile={folder}/sudo.log, loglinelen=0, log_year, log_host, !syslog, !pam_session\n"
    write(folder / "etc/sudoers", header + policy + "@includedir /etc/sudoers.d\n", 0o440)
    write(folder / "etc/sudoers.d/README", "# nothing\n", 0o440)


def sudo(folder: Path, asks: Sequence[Ask]) -> list[bool]:
    said = in_world(folder, sys.executable, HERE / "use_sudo.py", asked="".join(json.dumps(ask) + "\n" for ask in asks))
    return [json.loads(line) for line in said.splitlines()]


def mutations(chance: random.Random, words: Sequence[str]) -> list[list[str]]:
    """Return commands that are nearly this one: a word more or less, another letter, another program, a path that climbs."""
    program, *arguments = words
    found = [[program, *arguments, "x"], [program, *arguments, "/etc/shadow"], ["/usr/bin/env", *words], ["/bin/sh", "-c", program]]
    if arguments:
        at = chance.randrange(len(arguments))
        found += [
            [program, *arguments[:at], *arguments[at + 1 :], "y"],
            [program, *arguments[:at], arguments[at] + "z", *arguments[at + 1 :]],
            [program, *arguments[:at], arguments[at] + "/../../root", *arguments[at + 1 :]],
        ]
    return found


@pytest.mark.parametrize("seed", range(WORLDS))
def test_real_sudo_accepts_what_was_used_and_refuses_what_was_not(seed: int, tmp_path: Path, need: Callable[..., None]) -> None:
    need("sudo", "visudo", "unshare", "setpriv", root=True)
    chance = random.Random(seed)
    lay_out(tmp_path, POLICIES[seed % len(POLICIES)])
    tries: list[Ask] = [
        ("run", chance.choice(sorted(ACCOUNTS)), chance.choice(["root", "root", "rada"]), [chance.choice(PROGRAMS), *chance.choice(ARGUMENTS)])
        for _ in range(45)
    ]  # fmt: skip
    used = [one for one, done in zip(tries, sudo(tmp_path, tries), strict=True) if done]
    assert used
    program = Path(sys.executable).with_name("fidelitas")
    ledger = tmp_path / "ledger"
    in_world(tmp_path, program, "survey", "--no-file-scan", "--ledger", ledger, "--format", "json")
    options = ["--by-account"] if chance.random() < 0.5 else []
    arguments = ("--log", tmp_path / "sudo.log", "--name", os.uname().nodename, "--ledger", ledger, "--out", tmp_path / "new")
    locked_out = "test $? = 1 || exit 9"  # nobody is left who becomes root by sudo, which is what was asked for
    script = f'"$@"; {locked_out}'
    document = json.loads(in_world(tmp_path, "sh", "-c", script, "sh", program, "narrow", *arguments, *options, "--format", "json"))
    (proposal,) = document["policies"]
    assert sum(one["times"] for one in proposal["uses"]) + proposal["refused_already"] == len(used), proposal
    policy = tmp_path / "etc/sudoers"
    write(policy, proposal["files"]["/etc/sudoers"], 0o440)
    assert "parsed OK" in in_world(tmp_path, "visudo", "-c", "-f", "/etc/sudoers")
    again: list[Ask] = [("ask", account, target, words) for _, account, target, words in used]
    refused = {(ask[1], ask[2], tuple(ask[3])) for ask, allowed in zip(again, sudo(tmp_path, again), strict=True) if not allowed}
    stated = [one for one in proposal["uses"] if not one["allowed"]]
    assert len(refused) == len({(one["account"], one["as"], one["command"]) for one in stated}), (refused, stated, policy.read_text())
    known = {(target, " ".join(words)) for _, _, target, words in used}
    nearly: list[Ask] = [("ask", account, target, words) for _, account, target, some in used for words in mutations(chance, some)]
    accepted = [
        ask for ask, allowed in zip(nearly, sudo(tmp_path, nearly), strict=True) if allowed and (ask[2], " ".join(ask[3])) not in known
    ]
    assert not accepted, policy.read_text()
