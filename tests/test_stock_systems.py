"""Debian 11, 12 and 13, minimal and with more than a hundred packages of servers: nothing at medium or above, and nobody is root unasked.

Half an hour a release: only with STOCK=all, as `make test-long` has it.
"""

import os
import shutil
import subprocess
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from support import fidelitas

pytestmark = [
    pytest.mark.judge,
    pytest.mark.skipif(os.environ.get("STOCK") != "all", reason="takes half an hour a release (make test-long, or STOCK=all)"),
]
PACKAGES = [
    name for name in (Path(__file__).parent / "samples/server-packages.txt").read_text().split("\n") if name and not name.startswith("#")
]
ATTEMPTS = tomllib.loads((Path(__file__).parent / "samples/server-attempts.toml").read_text())["attempt"]
# Groups that confer root by what they are, on every system that has them; there is nobody in them.
GROUPS = {"%disk", "%sudo", "%docker", "%lxd", "%libvirt"}


@pytest.fixture(scope="module", params=["bullseye", "bookworm", "trixie"])
def root(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """The root folder of a release, with sudo and nothing else."""
    made = tmp_path_factory.mktemp("stock") / request.param
    subprocess.run(["debootstrap", "--include=sudo", request.param, made], check=True, stdout=subprocess.DEVNULL)
    (made / "etc/hostname").write_text("knot\n")
    yield made
    shutil.rmtree(made)


def survey(root: Path, folder: Path) -> Any:
    return fidelitas("survey", "--root", str(root), "--name", "knot", "--format", "json", cwd=folder).json


def raised(document: Any) -> list[str]:
    return [one["message"] for one in document["findings"]["findings"] if one["severity"] in ("critical", "high", "medium")]


def roots(document: Any) -> set[str]:
    every = (one for one in document["holders"]["holdings"] if one["right"] == "root")
    return {one["holder"]["name"] for one in every} - {"root"}


def install(root: Path) -> int:
    """Install the packages, each by itself, since some conflict; return how many there are then."""
    proxy = subprocess.run(["apt-config", "dump", "Acquire::http::Proxy"], capture_output=True, text=True, check=True).stdout
    (root / "etc/apt/apt.conf.d/90proxy").write_text(proxy)
    shutil.copy("/etc/resolv.conf", root / "etc/resolv.conf")
    (root / "usr/sbin/policy-rc.d").write_text("#!/bin/sh\nexit 101\n")
    (root / "usr/sbin/policy-rc.d").chmod(0o755)
    script = """
        mount -t proc none "$R/proc"
        chroot "$R" apt-get -q update
        for name; do
            chroot "$R" apt-get install -y -q --no-install-recommends --no-remove -o Dpkg::Options::=--force-unsafe-io "$name" && echo got
            [ -z "$(chroot "$R" dpkg --audit)" ] || chroot "$R" dpkg --force-all --purge "$name"
        done
        true
    """
    environment = {**os.environ, "R": str(root), "DEBIAN_FRONTEND": "noninteractive", "LC_ALL": "C"}
    command = ["unshare", "-m", "--propagation", "private", "sh", "-c", script, "sh", *PACKAGES]
    done = subprocess.run(command, env=environment, capture_output=True, text=True, check=True)
    (root / "usr/sbin/policy-rc.d").unlink()
    return done.stdout.count("got\n")


def test_nothing_is_raised_on_a_stock_debian_with_a_hundred_servers(root: Path, tmp_path: Path) -> None:
    fresh = survey(root, tmp_path)
    assert raised(fresh) == []
    assert roots(fresh) <= GROUPS
    assert install(root) >= 100
    grown = survey(root, tmp_path)
    assert raised(grown) == []
    assert roots(grown) <= GROUPS
    tried = [(attempt["program"], succeeds(root, attempt)) for attempt in ATTEMPTS if shutil.which(attempt["program"], path=places(root))]
    assert len(tried) >= 40
    assert [program for program, done in tried if not done] == []


def places(root: Path) -> str:
    return ":".join(str(root / folder) for folder in ("usr/bin", "usr/sbin", "bin", "sbin"))


def succeeds(root: Path, attempt: dict[str, str]) -> bool:
    """Return whether a program of a server, run as root, shows, writes or runs what it is said to."""
    (root / "root/secret").write_text("root:$y$HASH:1\nsecond HASH line\n")
    (root / "root/run.sh").write_text("#!/bin/sh\ntouch /root/target\n")
    (root / "root/run.sh").chmod(0o755)
    (root / "root/target").unlink(missing_ok=True)
    script = """
        mount -t proc none "$ROOT/proc"
        exec chroot "$ROOT" sh -c 'cd $(mktemp -d) && export S=/root/secret T=/root/target R=/root/run.sh && eval "$0"' "$WHAT"
    """
    kind = next(kind for kind in ("reads", "writes", "runs") if kind in attempt)
    command = ["unshare", "-m", "--propagation", "private", "timeout", "-k", "1", "20", "sh", "-c", script]
    environment = {"PATH": os.environ["PATH"], "ROOT": str(root), "WHAT": attempt[kind], "HOME": "/root", "USER": "root"}
    done = subprocess.run(command, env=environment, stdin=subprocess.DEVNULL, capture_output=True, check=False)
    return b"HASH" in done.stdout + done.stderr if kind == "reads" else (root / "root/target").exists()
