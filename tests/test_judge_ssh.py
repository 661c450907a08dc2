"""Hosts read over SSH by the built program: real sshd's, real sudo, and hosts that behave badly; interrupted surveys are completed."""

import hashlib
import json
import os
import signal
import socket
import subprocess
import sys
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import pytest
import tree_sitter
import tree_sitter_powershell
from msgspec import Struct

from fidelitas.ledger import Ledger
from support import Ran, fidelitas, open_up
from test_judge_sudo import HERE, Writer, write

pytestmark = pytest.mark.judge

# What stands in for the probe on a host that behaves so.
BEHAVIOUR = {
    "good": "cat {place}/host.tar",
    "hanging": "sleep 1000",
    "endless": "cat /dev/zero",
    "empty": "exit 0",
    "cut": "head -c 30000 {place}/host.tar",
    "full": "echo 'sh: cannot create /tmp/x: No space left on device' >&2; exit 2",
    "killed": "head -c 700 {place}/host.tar; kill -9 $PPID",
    "later": "if [ -e {place}/ready ]; then cat {place}/host.tar; else sleep 1000; fi",
}


class World(Struct, frozen=True, dict=True):
    """A folder with an sshd on a port, and one that prints noise on another."""

    place: Path
    port: int
    noisy: int

    def estate(self, hosts: str) -> Path:
        file = self.place / "estate.toml"
        head = f'format = 1\n[ssh]\nconfig = "ssh_config"\n[defaults]\nuser = "ines"\nport = {self.port}\nelevation = "none"\n'
        file.write_text(head + hosts)
        file.chmod(0o644)
        return file

    def host(self, name: str, **settings: object) -> str:
        stated = {"name": name, "address": "127.0.0.1", **settings}
        return "[[host]]\n" + "".join(f"{key} = {json.dumps(value)}\n" for key, value in stated.items())

    def behaving(self, how: str, name: str = "", **settings: object) -> str:
        return self.host(name or how, collector=str(self.place / "bin" / how), **settings)

    def survey(self, folder: Path, hosts: str, *arguments: str | Path) -> Ran:
        return fidelitas(
            "survey", "--estate", self.estate(hosts), "--deadline", "3m", "--no-file-scan", "--no-logs", *arguments, cwd=folder
        )


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def key(file: Path) -> str:
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "test", "-f", file], check=True)
    return " ".join(file.with_suffix(".pub").read_text().split()[:2])


@pytest.fixture(scope="module")
def world(tmp_path_factory: pytest.TempPathFactory) -> Iterator[World]:
    place = tmp_path_factory.mktemp("ssh")
    Writer(1).etc(place)
    for extra in (place / "etc/sudoers.d").iterdir():
        extra.unlink()
    rule = fidelitas("probe", "--sudoers-rule", "ines", cwd=place).out.replace("/usr/local/lib/fidelitas/probe", str(place / "installed"))
    write(place / "etc/sudoers", f"root, rada ALL=(ALL) ALL\n{rule}", 0o440)
    (place / "bin").mkdir()
    for how, script in BEHAVIOUR.items():
        write(place / "bin" / how, f"#!/bin/sh\n{script.format(place=place)}\n", 0o755)
    write(place / "installed", fidelitas("probe", cwd=place).out, 0o755)
    read = subprocess.run(
        ["sh", place / "installed", "--root", place, "--no-file-scan", "--no-logs"], stdout=subprocess.PIPE, check=True, timeout=60
    )
    write(place / "bin/unreadable", "#!/bin/sh\n", 0o700)
    (place / "host.tar").write_bytes(read.stdout)
    client, server = key(place / "client"), key(place / "server")
    key(place / "other")
    write(place / "keys", client + "\n", 0o644)
    ports = free_port(), free_port()
    for name, port in zip(("plain", "noisy"), ports, strict=True):
        noise = 'Banner {place}/banner\nForceCommand echo a line of .bashrc; eval "$SSH_ORIGINAL_COMMAND"\n' if name == "noisy" else ""
        config = (
            f"Port {port}\nListenAddress 127.0.0.1\nHostKey {place}/server\nPidFile none\nAuthorizedKeysFile {place}/keys\nStrictModes no\n"
            f"SetEnv PATH={place}/bin:/usr/local/bin:/usr/bin:/bin\nUsePAM no\nPasswordAuthentication no\nKbdInteractiveAuthentication no\nMaxStartups 100\n{noise.format(place=place)}"
        )
        write(place / f"sshd_{name}", config, 0o600)
    write(place / "banner", "Only for staff!\n", 0o644)
    known = "".join(f"[127.0.0.1]:{port} {server}\n" for port in ports)
    write(place / "known_hosts", known + "changed " + " ".join((place / "other.pub").read_text().split()[:2]) + "\n", 0o600)
    write(
        place / "ssh_config",
        "".join(f"Host {name}\n  HostName 127.0.0.1\n  HostKeyAlias {name}\n" for name in ("changed", "unknown"))
        + f"Host *\n  IdentityFile {place}/client\n"
        f"  UserKnownHostsFile {place}/known_hosts\n  GlobalKnownHostsFile /dev/null\n",
        0o600,
    )
    open_up(place)
    command: list[str | Path] = ["unshare", "--mount", "--propagation", "private", "bash", HERE / "ssh_world.sh", place / "etc"]
    with subprocess.Popen([*command, place / "sshd_plain", place / "sshd_noisy"], stdin=subprocess.PIPE) as servers:
        for port in ports:
            wait_for(lambda port=port: reachable(port))  # type: ignore[misc]
        yield World(place, *ports)
        assert servers.stdin is not None
        servers.stdin.close()


def reachable(port: int) -> bool:
    try:
        socket.create_connection(("127.0.0.1", port), timeout=1).close()
    except OSError:
        return False
    return True


def wait_for(true: Callable[[], bool], process: "subprocess.Popen[bytes] | None" = None) -> None:
    """Wait until something is so, half a minute at most."""
    pause = subprocess.Popen(["sleep", "30"])
    while not true() and pause.poll() is None and (process is None or process.poll() is None):
        try:
            pause.wait(0.05)
        except subprocess.TimeoutExpired:
            continue
    pause.kill()
    pause.wait()
    assert true()


@pytest.fixture(autouse=True)
def ready(need: Callable[..., None]) -> None:
    need("ssh", "sshd", "ssh-keygen", "sudo", "unshare", root=True)


def test_every_host_costs_only_itself_and_each_failure_has_its_remedy(world: World, tmp_path: Path) -> None:
    # Only what has no end is to meet its deadline, however busy the machine is.
    ends = [how for how in BEHAVIOUR if how not in ("later", "good", "hanging")]
    hosts = "".join(world.behaving(how) for how in ends) + world.behaving("hanging", deadline="8s")
    hosts += "".join(world.behaving("good", f"good{number}") for number in range(4))
    hosts += world.behaving("good", "noisy", port=world.noisy)
    hosts += world.behaving("good", "changed", address="changed") + world.behaving("good", "unknown", address="unknown")
    hosts += world.behaving("good", "refused", user="ghost") + world.behaving("good", "closed", port=free_port())
    hosts += world.host("password", user="rada", elevation="sudo -n")
    hosts += world.host("rule", elevation="sudo -n", collector=str(world.place / "installed"))
    hosts += world.behaving("unreadable")
    hosts += world.host("beyond", elevation="sudo -n")
    hosts += world.behaving("missing")
    ran = world.survey(tmp_path, hosts, "--format", "json", "--at-once", "8")
    assert ran.status == 4, ran.err
    assert {one["subject"] for one in ran.json["holders"]["holdings"]} == {"good0", "good1", "good2", "good3", "noisy", "rule", "cut"}
    said = ran.err.replace("fidelitas: ", "")
    for words in (
        "the host key has changed", "the host key is not known", "the key was refused", "the connection was refused", "sudo wants a password",
        "it took too long", "the disk is full there", "the probe is not installed there", "the account may not run the probe",
        "ssh-keygen -R changed", "--sudoers-rule rada",
    ):  # fmt: skip
        assert words in said, (words, said)
    late = next(line for line in said.splitlines() if "it took too long" in line)
    assert "hanging" in late
    for name in ("empty", "killed", "endless", "beyond"):
        assert name in said


def test_the_rule_allows_the_probe_and_nothing_else(world: World) -> None:
    def far(command: str) -> int:
        words: list[str | Path] = [
            "ssh",
            "-F",
            world.place / "ssh_config",
            "-o",
            "BatchMode=yes",
            "-p",
            str(world.port),
            "-l",
            "ines",
            "127.0.0.1",
            command,
        ]
        return subprocess.run(words, capture_output=True, check=False, timeout=60).returncode

    installed = world.place / "installed"
    for command in (f"sudo -n {installed} --no-logs", f"sudo -n -u rada {installed}", "sudo -n id", f"sudo -n sh {installed}"):
        assert far(command) == 1, command
    kept = installed.read_bytes()
    digest = hashlib.sha256(kept).hexdigest()
    assert digest in (world.place / "etc/sudoers").read_text()
    installed.write_bytes(kept + b"\n")
    assert far(f"sudo -n {installed}") == 1
    installed.write_bytes(kept)


def arrived(ledger: Path) -> Sequence[str]:
    """Return the subjects that an unfinished survey has so far."""
    draft = Ledger(ledger).unfinished()
    return () if draft is None else draft.stored.names


STAND_IN = r"""#!/bin/sh
[ "$1 $2 $3" = "-NoProfile -NonInteractive -EncodedCommand" ] && [ $# = 4 ] || exit 9
printf %s "$4" | base64 -d | tr -d '\000' > {place}/bootstrap
cat > {place}/sent
mark=$(sed -n 's/.*"\(fidelitas-[0-9a-f]*\)`n".*/\1/p' {place}/bootstrap)
printf 'a line of a profile\r\n%s\n' "$mark"
cat {place}/avocet.tar
"""


def test_a_windows_machine_is_read_by_its_powershell(world: World, tmp_path: Path) -> None:
    """As far as that goes without one: what is sent is the probe and a script that runs it, and what comes back is read."""
    assert fidelitas("demo", cwd=tmp_path).status in (0, 4)
    (avocet,) = tmp_path.glob("demo-estate/*avocet*")
    (world.place / "avocet.tar").write_bytes(avocet.read_bytes())
    write(world.place / "bin/powershell", STAND_IN.format(place=world.place), 0o755)
    world.place.chmod(0o777)
    windows = world.host("avocet", shell="powershell")
    assert world.survey(tmp_path, windows, "--deadline", "60s").status == 0
    by_hand = ("--ledger", tmp_path / "by-hand")
    assert fidelitas("survey", avocet, *by_hand, cwd=tmp_path).status == 0
    held = [fidelitas("holders", "--format", "csv", *ledger, cwd=tmp_path).out for ledger in ((), by_hand)]
    assert held[0] == held[1]
    assert held[0].count("admin") > 3
    assert (world.place / "sent").read_text() == fidelitas("probe", "--windows", cwd=tmp_path).out
    bootstrap = (world.place / "bootstrap").read_text()
    assert "-OutFile '-' -Deadline 60 -NoLogs" in bootstrap
    tree = tree_sitter.Parser(tree_sitter.Language(tree_sitter_powershell.language())).parse(bootstrap.encode())
    assert not tree.root_node.has_error
    (world.place / "bin/powershell").unlink()
    lost = world.survey(tmp_path, windows)
    assert "PowerShell is missing there" in lost.err, lost.err
    refused = world.survey(tmp_path, world.host("avocet", shell="powershell", collector="/x"))
    assert 'line 12, column 1: "collector" is for hosts with sh' in refused.err, refused.err


@pytest.mark.parametrize("end", [signal.SIGINT, signal.SIGKILL])
def test_an_interrupted_survey_is_completed_and_answers_as_an_undisturbed_one(world: World, tmp_path: Path, end: signal.Signals) -> None:
    hosts = "".join(world.behaving("good", f"good{number}") for number in range(5)) + world.behaving("later", deadline="5m")
    ready = world.place / "ready"
    ready.unlink(missing_ok=True)
    # What started the tests may have it that an interrupt is ignored, as by a shell in the background.
    program = Path(sys.executable).with_name("fidelitas")
    command: list[str | Path] = ["env", "--default-signal=INT", program, "survey", "--estate", world.estate(hosts)]
    surroundings = {**os.environ, "FIDELITAS_LEDGER": str(tmp_path / "ledger"), "HOME": str(tmp_path)}
    with subprocess.Popen(command, env=surroundings, stderr=subprocess.PIPE, stdout=subprocess.PIPE, start_new_session=True) as running:
        try:
            wait_for(lambda: len(arrived(tmp_path / "ledger")) == 5, running)
        finally:
            os.kill(running.pid, end)
        _, said = running.communicate(timeout=120)
    assert running.returncode != 0
    if end is signal.SIGINT:
        assert b"interrupted: 5 subjects had arrived" in said
        assert b"--resume" in said
    assert fidelitas("holders", cwd=tmp_path).status == 2  # no survey yet: nothing half done is shown as whole
    ready.touch()
    resumed = world.survey(tmp_path, hosts, "--resume")
    assert resumed.status == 0, resumed.err
    assert fidelitas("ledger", "info", "--format", "json", cwd=tmp_path).json["unfinished_surveys"] == 0
    whole = tmp_path / "whole"
    whole.mkdir()
    assert world.survey(whole, hosts).status == 0
    answers = [fidelitas("holders", "--format", "csv", cwd=folder).out for folder in (tmp_path, whole)]
    assert answers[0] == answers[1]
    assert len({line.split(",")[0] for line in answers[0].splitlines()}) > 1
    again = world.survey(tmp_path, hosts, "--resume")
    assert again.status == 2
    assert "was interrupted" in again.err


def test_the_demo_over_ssh_answers_as_the_demo(tmp_path: Path) -> None:
    programs = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
    surroundings = {**os.environ, "PATH": programs, "DEMO_SSH_PORT": str(free_port()), "HOME": str(tmp_path)}
    script = HERE.parent.parent / "scripts/demo_ssh.sh"
    done = subprocess.run(["sh", script, tmp_path], env=surroundings, capture_output=True, text=True, check=False, timeout=300)
    assert done.returncode == 0, done.stderr
    for host in ("tern", "curlew"):
        answers = [
            fidelitas("holders", "--on", host, "--format", "csv", "--ledger", tmp_path / ledger, cwd=tmp_path).out
            for ledger in ("ledger", "estate/ledger")
        ]
        assert answers[0].count("\n") > 3
        assert answers[0] == answers[1]
