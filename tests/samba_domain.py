"""A Samba domain controller in a scratch folder and a network of its own, for tests that ask it.  Its ports are fixed numbers."""

import os
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

__all__ = ["PROGRAM", "Domain", "scratch_domain"]

PROGRAM = shutil.which("samba") or "/usr/sbin/samba"
# A network of each process's own: tests may run side by side.
_NET, _LINK, _ADDRESS = f"fidelitas-{os.getpid()}", f"fid{os.getpid()}", f"10.98.{20 + os.getpid() % 200}"
_PASSWORD = "Made-up-pw!1"
BASE = "DC=tides,DC=saltmarsh,DC=example"
_CONFIGURATION = """\
[global]
server role = active directory domain controller
netbios name = DC1
realm = TIDES.SALTMARSH.EXAMPLE
workgroup = TIDES
interfaces = lo {link}p
bind interfaces only = yes
ldap server require strong auth = no
server services = -dns -dnsupdate -spoolss -wrepl -nbt -ntp_signd -kcc {without}
private dir = {folder}/private
state directory = {folder}/state
cache directory = {folder}/cache
lock directory = {folder}
binddns dir = {folder}/bind-dns
pid directory = {folder}/run
ncalrpc dir = {folder}/ncalrpc
log file = {folder}/log.%m
[sysvol]
path = {folder}/state/sysvol
"""
_INSIDE = 'hostname dc1; mount --bind "$1/hosts" /etc/hosts; mount -t tmpfs -o mode=755 tmpfs /run; mkdir -p /run/samba; shift; exec "$@"'


def _run(*words: str | Path) -> None:
    subprocess.run(words, check=True, capture_output=True, timeout=120)


class Domain:
    """A running domain controller."""

    def __init__(self, folder: Path, *, files: bool) -> None:
        self.folder, self.host, self.password = folder, f"{_ADDRESS}.2", _PASSWORD
        self.bind = f"CN=Administrator,CN=Users,{BASE}"
        (folder / "hosts").write_text(f"127.0.0.1 localhost\n{self.host} dc1.tides.saltmarsh.example dc1\n")
        target = folder / "p"
        options = ["--realm=TIDES.SALTMARSH.EXAMPLE", "--domain=TIDES", "--server-role=dc", "--host-name=dc1", f"--host-ip={self.host}"]
        more = [
            "--dns-backend=NONE",
            f"--adminpass={_PASSWORD}",
            f"--targetdir={target}",
            "--quiet",
            "--option=vfs objects=dfs_samba4 acl_xattr",
        ]
        _run("ip", "netns", "add", _NET)
        for words in (
            f"link add {_LINK} type veth peer name {_LINK}p", f"link set {_LINK}p netns {_NET}", f"addr add {_ADDRESS}.1/30 dev {_LINK}",
            f"link set {_LINK} up", f"-n {_NET} addr add {_ADDRESS}.2/30 dev {_LINK}p", f"-n {_NET} link set {_LINK}p up", f"-n {_NET} link set lo up",
        ):  # fmt: skip
            _run("ip", *words.split())
        target.mkdir()
        _run(*self._inside("samba-tool", "domain", "provision", *options, *more))
        (target / "etc" / "smb.conf").write_text(
            _CONFIGURATION.format(folder=target, link=_LINK, without="" if files else "-s3fs -winbindd")
        )
        (target / "run").mkdir(exist_ok=True)
        with (folder / "out").open("wb") as out:
            self._running = subprocess.Popen(
                self._inside(PROGRAM, "-i", "--debug-stdout", "-s", target / "etc" / "smb.conf", "-M", "single"), stdout=out, stderr=out
            )
        self._wait()

    def keytab(self, machine: str, file: Path) -> None:
        """Make a machine a member, and write its keys to a file."""
        for words in (
            ("computer", "create", machine), ("user", "setpassword", f"{machine}$", f"--newpassword={_PASSWORD}"),
            ("spn", "add", "ldap/dc1.tides.saltmarsh.example", "DC1$"), ("domain", "exportkeytab", str(file), f"--principal={machine.upper()}$"),
        ):  # fmt: skip
            _run(*self._inside("samba-tool", *words, "-s", self.folder / "p" / "etc" / "smb.conf"))

    def _inside(self, *words: str | Path) -> list[str | Path]:
        own = ["ip", "netns", "exec", _NET, "unshare", "--mount", "--uts", "--propagation", "private"]
        return [*own, "bash", "-c", _INSIDE, "_", self.folder, *words]

    def _wait(self) -> None:
        """Wait until it answers; a refused connection comes back at once, and so there is a short pause between tries."""
        ends = time.monotonic() + 60
        while self._running.poll() is None and time.monotonic() < ends:
            try:
                socket.create_connection((self.host, 389), 1).close()
            except OSError:
                self._running.poll() is None and subprocess.run(["ip", "netns", "pids", _NET], capture_output=True, check=False)
            else:
                return
        raise RuntimeError((self.folder / "out").read_text(errors="replace")[-2000:])

    def stop(self) -> None:
        self._running.terminate()
        self._running.wait(30)


@contextmanager
def scratch_domain(folder: Path, *, files: bool = False) -> Iterator[Domain]:
    """Yield a running domain controller; with `files` one that machines join, which costs a file server."""
    try:
        domain = Domain(folder, files=files)
        yield domain
        domain.stop()
    finally:
        pids = subprocess.run(["ip", "netns", "pids", _NET], capture_output=True, text=True, check=False).stdout.split()
        subprocess.run(["kill", *pids], capture_output=True, check=False)
        subprocess.run(["ip", "netns", "del", _NET], capture_output=True, check=False)
        subprocess.run(["ip", "link", "del", _LINK], capture_output=True, check=False)
