"""Measures `survey --estate` over real SSH on the loopback: hosts a minute and memory, with a stand-in for the probe and with the probe.

Prints what one connection costs alone (ssh and `true`), and the ratio of a host to that: what comes on top is reading, storing, judging.
Needs sshd, and root where the probe is to read what root reads.
"""

import argparse
import resource
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

PROGRAM = Path(sys.executable).with_name("fidelitas")


def free_port() -> int:
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return int(found.getsockname()[1])


def key(file: Path) -> str:
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", file], check=True)
    return " ".join(file.with_suffix(".pub").read_text().split()[:2])


@contextmanager
def server(place: Path) -> Iterator[int]:
    """A server that takes many connections at a time."""
    port, client, host = free_port(), key(place / "client"), key(place / "server")
    (place / "keys").write_text(client + "\n")
    (place / "known_hosts").write_text(f"[127.0.0.1]:{port} {host}\n")
    (place / "ssh_config").write_text(
        f"Host *\n  Port {port}\n  HostName 127.0.0.1\n  IdentityFile {place}/client\n  UserKnownHostsFile {place}/known_hosts\n"
        f"  HostKeyAlias [127.0.0.1]:{port}\n"
    )
    (place / "sshd_config").write_text(
        f"Port {port}\nListenAddress 127.0.0.1\nHostKey {place}/server\nPidFile none\nAuthorizedKeysFile {place}/keys\nStrictModes no\n"
        "UsePAM no\nPasswordAuthentication no\nMaxStartups 500\n"
    )
    Path("/run/sshd").mkdir(exist_ok=True)
    with subprocess.Popen(["/usr/sbin/sshd", "-D", "-f", place / "sshd_config"], stderr=subprocess.DEVNULL) as running:
        while subprocess.run(alone(place), capture_output=True, check=False).returncode:
            if running.poll() is not None:
                sys.exit("sshd did not start")
        yield port
        running.terminate()


def alone(place: Path) -> list[str]:
    return ["ssh", "-F", str(place / "ssh_config"), "-o", "BatchMode=yes", "any", "true"]


def survey(place: Path, count: int, collector: str) -> tuple[float, int]:
    """Return the seconds that a survey of so many hosts takes, and the most memory of its process in KiB."""
    hosts = f'[[host]]\nname = "host[1..{count}]"\n{collector}'
    (place / "estate.toml").write_text(f'format = 1\n[ssh]\nconfig = "ssh_config"\n[defaults]\nelevation = "none"\n{hosts}')
    with tempfile.TemporaryDirectory() as ledger:
        words = [
            PROGRAM,
            "survey",
            "--estate",
            place / "estate.toml",
            "--ledger",
            ledger,
            "--no-logs",
            "--no-file-scan",
            "--format",
            "json",
        ]
        begin = time.perf_counter()
        done = subprocess.run(["/usr/bin/time", "-f", "%M", *words], capture_output=True, text=True, check=False)
        took = time.perf_counter() - begin
    if done.returncode:
        sys.exit(done.stderr)
    return took, int(done.stderr.split()[-1])


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("--hosts", type=int, default=200)
    asked.add_argument("--real", type=int, default=20, help="how many with the probe itself")
    chosen = asked.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        archive, stand_in = place / "host.tar", place / "stand-in"
        probe = place / "probe.sh"
        probe.write_bytes(subprocess.run([PROGRAM, "probe"], capture_output=True, check=True).stdout)
        archive.write_bytes(subprocess.run(["sh", probe, "--no-logs", "--no-file-scan"], capture_output=True, check=True).stdout)
        stand_in.write_text(f"#!/bin/sh\ncat {archive}\n")
        stand_in.chmod(0o755)
        with server(place):
            begin = time.perf_counter()
            for _ in range(10):
                subprocess.run(alone(place), check=True)
            one = (time.perf_counter() - begin) / 10
            print(f"one connection alone, one after another: {one:.3f} s, of which the key exchange is the most")
            collector = f'collector = "{stand_in}"\n'
            for count in (chosen.hosts // 10, chosen.hosts):
                took, memory = survey(place, count, collector)
                print(
                    f"{count} hosts with a stand-in that sends {archive.stat().st_size >> 10} KiB: {count / took * 60:.0f} hosts a minute, "
                    f"{took / count / one:.2f} of one connection each, {memory >> 10} MiB"
                )
            if chosen.real:
                took, memory = survey(place, chosen.real, "")
                print(f"{chosen.real} hosts with the probe itself: {chosen.real / took * 60:.0f} hosts a minute, {memory >> 10} MiB")
    spent = resource.getrusage(resource.RUSAGE_CHILDREN)
    print(f"all of it took {spent.ru_utime + spent.ru_stime:.0f} s of CPU, of this machine's side and the hosts' together")


if __name__ == "__main__":
    main()
