"""Real sudo as the judge: on this very machine, with a private /etc, who may run anything as whom, and who is asked for a password."""

import json
import os
import random
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

pytestmark = pytest.mark.judge

# How many policies are made; each has a copy of this machine read and sudo asked nineteen times.
WORLDS = int(os.environ.get("JUDGE_WORLDS", "8"))
HERE = Path(__file__).parent / "judges"
ACCOUNTS = {"ines": 4101, "tomas": 4102, "rada": 4103, "vesna": 4104, "kofi": 4105}
GROUPS = {"sudo": 27, "gauges": 4201, "Model": 4202, "night": 4203}


class Writer:
    """Makes policies and accounts from a seed."""

    def __init__(self, seed: int) -> None:
        self.chance = random.Random(seed)
        self.members = {group: sorted(self.chance.sample(sorted(ACCOUNTS), self.chance.randrange(3))) for group in GROUPS}
        self.primary = {name: self.chance.choice([uid, uid, uid, *GROUPS.values()]) for name, uid in ACCOUNTS.items()}

    def etc(self, folder: Path) -> None:
        passwd = Path("/etc/passwd").read_text() + "".join(
            f"{name}:x:{uid}:{self.primary[name]}::/tmp:/bin/sh\n" for name, uid in ACCOUNTS.items()
        )
        passwd += "toor:x:0:0::/root:/bin/sh\n"
        names = {line.partition(":")[0] for line in Path("/etc/group").read_text().splitlines()}
        group = "".join(line + "\n" for line in Path("/etc/group").read_text().splitlines() if line.partition(":")[0] not in GROUPS)
        group += "".join(f"{name}:x:{gid}:{','.join(self.members[name])}\n" for name, gid in GROUPS.items())
        group += "".join(f"{name}:x:{uid}:\n" for name, uid in ACCOUNTS.items() if name not in names)
        shadow = Path("/etc/shadow").read_text() + "".join(f"{name}:$6$salt$hash:20000:0:99999:7:::\n" for name in (*ACCOUNTS, "toor"))
        (folder / "etc/sudoers.d").mkdir(parents=True)
        write(folder / "etc/passwd", passwd, 0o644)
        write(folder / "etc/group", group, 0o644)
        write(folder / "etc/shadow", shadow, 0o640)
        write(folder / "etc/nsswitch.conf", "passwd: files\ngroup: files\nshadow: files\nhosts: files\nnetgroup: files\n", 0o644)
        write(folder / "etc/hosts", f"127.0.0.1 localhost\n127.0.1.1 {os.uname().nodename}\n", 0o644)
        write(folder / "etc/sudoers", self.policy(), 0o440)
        for name in self.chance.sample(["10-a", "9-b", "UPPER", "lower", "with.dot", "backup~"], 3):
            write(folder / "etc/sudoers.d" / name, "".join(self.rule() for _ in range(self.chance.randrange(1, 3))), 0o440)

    def policy(self) -> str:
        aliases = [
            f"User_Alias STAFF = {self.users()}",
            f"User_Alias NESTED = {self.chance.choice(['STAFF', '!STAFF'])}, {self.users()}",
            f"Runas_Alias TARGETS = {self.targets()}",
            f"Host_Alias HERE = {self.hosts()}",
            f"Cmnd_Alias ANY = {self.chance.choice(['ALL', 'ALL, !/bin/sh', '/bin/ls, ALL', '!ALL', '/bin/sh'])}",
        ]
        defaults = self.chance.sample(
            ["Defaults !authenticate", "Defaults:ines !authenticate", "Defaults>rada !authenticate", "Defaults case_insensitive_group",
             "Defaults !case_insensitive_user", "Defaults runas_default=rada", "Defaults exempt_group=night"],
            self.chance.randrange(3),
        )  # fmt: skip
        lines = [*aliases, *defaults, *(self.rule().rstrip("\n") for _ in range(self.chance.randrange(1, 7)))]
        self.chance.shuffle(lines)
        return "\n".join([*lines, "@includedir sudoers.d", *(self.rule().rstrip("\n") for _ in range(self.chance.randrange(2)))]) + "\n"

    def some(self, choices: list[str]) -> str:
        picked = [self.chance.choice(choices) for _ in range(self.chance.choice([1, 1, 2, 3]))]
        return ", ".join(f"{self.chance.choice(['', '', '', '!'])}{one}" for one in picked)

    def users(self) -> str:
        return self.some([*ACCOUNTS, "INES", "#4102", "%gauges", "%MODEL", "%#4203", "%sudo", "ALL", "%nosuch", "nosuch"])

    def targets(self) -> str:
        return self.some(["ALL", "root", "#0", "toor", "rada", "#4104", "%gauges", "kofi"])

    def hosts(self) -> str:
        return self.some(["ALL", "ALL", "elsewhere", os.uname().nodename, f"{os.uname().nodename[0]}*", "[^a]*"])

    def rule(self) -> str:
        users = self.chance.choice([self.users(), self.users(), "STAFF", "NESTED", "!NESTED", "ALL"])
        hosts = self.chance.choice(["ALL", "ALL", "HERE", self.hosts()])
        specs = []
        for _ in range(self.chance.choice([1, 1, 2])):
            run_as = self.chance.choice(["", f"({self.targets()}) ", "(TARGETS) ", "(ALL:ALL) ", "(!TARGETS, ALL) "])
            tag = self.chance.choice(
                ["", "", "NOPASSWD: ", "PASSWD: ", "NOPASSWD:SETENV: ", "NOTAFTER=20200101000000Z ", "NOTBEFORE=20200101000000Z "]
            )
            command = self.chance.choice(["ALL", "ALL", "ANY", "!ALL", "!ANY", "/bin/ls", "!/bin/ls", "NOSUCH"])
            specs.append(f"{run_as}{tag}{command}")
        tail = self.chance.choice(["", "", "", f" : {self.hosts()} = ALL", " : oops", " ALL ="])
        return f"{users} {hosts} = {', '.join(specs)}{tail}\n"


def write(path: Path, text: str, mode: int) -> None:
    path.write_bytes(text.encode())
    path.chmod(mode)


Answers = dict[tuple[str, str], dict[str, object]]

TARGETS = ("root", "toor", "rada", "vesna")
QUESTIONS = [(account, target) for account in ACCOUNTS for target in TARGETS if account != target]


def in_world(folder: Path, *command: str | Path, asked: str = "") -> str:
    """Run a command on this machine with the private /etc of a folder, and return what it printed."""
    done = subprocess.run(
        ["sh", HERE / "ask_sudo.sh", folder, *command], input=asked, capture_output=True, text=True, check=False, timeout=300
    )
    assert done.returncode == 0, done.stderr
    assert "Traceback" not in done.stderr, done.stderr
    return done.stdout


def answers(folder: Path, script: str) -> Answers:
    asked = "".join(f"{account} {target}\n" for account, target in QUESTIONS)
    said = map(json.loads, in_world(folder, sys.executable, HERE / script, asked=asked).splitlines())
    return {(answer["account"], answer["target"]): answer for answer in said}


@pytest.fixture
def world(request: pytest.FixtureRequest, tmp_path: Path, need: Callable[..., None]) -> Path:
    need("sudo", "unshare", "setpriv", root=True)
    Writer(request.param).etc(tmp_path)
    return tmp_path


@pytest.mark.parametrize("world", range(WORLDS), indirect=True)
def test_real_sudo_decides_the_same(world: Path) -> None:
    """For every account and target: allowed or not, and whether a password is asked."""
    judged, ours = answers(world, "answers.py"), answers(world, "our_answers.py")
    assert not [answer for answer in judged.values() if "trouble" in answer]
    wrong = {
        question: (judged[question], ours[question])
        for question in QUESTIONS
        if (judged[question]["allowed"], judged[question]["password"]) != (ours[question]["allowed"], ours[question]["password"])
    }
    assert not wrong, (world / "etc/sudoers").read_text()


@pytest.mark.parametrize("world", [100, 101], indirect=True)
def test_the_survey_of_this_machine_lists_everyone_whom_sudo_lets_become_root(world: Path) -> None:
    program = Path(sys.executable).with_name("fidelitas")
    survey = json.loads(in_world(world, program, "survey", "--no-file-scan", "--format", "json", "--ledger", world / "ledger"))
    routes = [  # but for those by what processes hold at this moment: others of this machine's run beside the test
        (holding, route)
        for holding in survey["holders"]["holdings"]
        for route in holding["routes"]
        if not any(link["place"]["path"].startswith("/proc/") for link in route["links"])
    ]
    listed = {
        holding["holder"]["name"]
        for holding, route in routes
        if holding["right"] == "root" and [link["kind"] for link in route["links"]].count("may become") == 1 and route["links"][-1]["rule"]
    }
    judged = answers(world, "answers.py")
    may = {account for account, target in QUESTIONS if target in ("root", "toor") and judged[account, target]["allowed"]}
    assert listed & set(ACCOUNTS) | ({*ACCOUNTS} if "any account" in listed else set()) >= may
    assert listed & set(ACCOUNTS) <= may
    for link in (link for holding, route in routes if holding["right"] == "root" for link in route["links"]):
        assert link["place"]["path"].startswith("/etc/")
        assert link["place"]["line"] >= 1
