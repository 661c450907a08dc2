"""A fresh Debian: silence, and attempts on it by ordinary accounts, made for real.

Each row of `samples/attempts.toml` is planted for an account of its own in one copy of the root folder, which the built program surveys.  Then
the account tries, in a namespace and on a layer of its own, and root does what root does by itself.  Anyone who is said to become root became it,
and nobody else did.
"""

import json
import os
import shutil
import stat
import subprocess
import tomllib
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path
from typing import Any

import pytest

from fidelitas.findings import Severity
from fidelitas.languages.linux.host import read_host
from fidelitas.platforms import findings_on
from fidelitas.rights import HostRights, rights_of
from fidelitas.rights.linux.programs import Origin, privileged_programs
from support import fidelitas
from test_probe import probe, put

pytestmark = pytest.mark.judge

Row = dict[str, Any]
_TABLE = tomllib.loads((Path(__file__).parent / "samples/attempts.toml").read_text())
ATTEMPTS: list[Row] = [*_TABLE["attempt"], *({"name": f"sudo: {row['rule']}", **row} for row in _TABLE["sudo"])]
# All are planted and asked; of the attempts, which take a second each, a part is made here and all with ROADS=all.
TRIED = ATTEMPTS if os.environ.get("ROADS") == "all" else ATTEMPTS[::3]
_INCLUDED = "sudo,cron,logrotate,acl,openssh-server"


def read(root: Path) -> HostRights:
    return rights_of(read_host(probe(root)))


# -- a fresh installation ----------------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def fresh(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A minimal Debian in a folder."""
    if shutil.which("debootstrap") is None or os.geteuid() != 0:
        why = "debootstrap is not installed, or this is not root (apt-get install debootstrap; run make test as root)"
        if os.environ.get("CI") == "true":
            pytest.fail(why)
        pytest.skip(why)
    root = tmp_path_factory.mktemp("fresh") / "root"
    done = subprocess.run(
        ["debootstrap", "--variant=minbase", f"--include={_INCLUDED}", "bookworm", root], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stdout[-2000:] + done.stderr[-2000:]
    yield root
    shutil.rmtree(root)


def test_nothing_is_raised_on_a_fresh_debian(fresh: Path) -> None:
    host = read(fresh)
    assert [one.message for one in findings_on(host) if one.severity <= Severity.MEDIUM] == []
    assert {one.origin for one in privileged_programs(host.facts)} == {Origin.PACKAGED}
    assert {one.expected != "" for one in privileged_programs(host.facts)} == {True}
    assert len(list(privileged_programs(host.facts))) >= 10
    assert not host.facts.gaps


def test_trees_of_other_systems_are_one_finding_each_and_give_root_to_nobody(fresh: Path, tmp_path: Path) -> None:
    """A chroot of this Debian, and layers of containers with another: what `su` of each does for an account is what the host's would."""
    trees = ["srv/chroot/same", "var/lib/docker/overlay2/aa/diff", "var/lib/docker/overlay2/bb/diff", "root/images/old"]
    programs = [
        path for path in ("usr/bin/su", "usr/bin/passwd", "usr/bin/mount", "usr/bin/gpasswd", "usr/bin/chsh") if (fresh / path).exists()
    ]
    try:
        for number, tree in enumerate(trees):
            for path in programs:
                content = (fresh / path).read_bytes() + (b"" if number == 0 else bytes([number]))
                put(fresh / tree / path, "")
                (fresh / tree / path).write_bytes(content)
                (fresh / tree / path).chmod(0o4755)
        (fresh / "root").chmod(0o700)
        host = read(fresh)
        raised = [one for one in findings_on(host) if one.severity <= Severity.LOW and one.check.startswith("programs.")]
        assert {(one.about, str(one.severity)) for one in raised} == {("/var/lib/docker", "medium"), ("/root/images/old", "low")}
        assert "any account" not in {str(holding.principal) for holding in host.holdings}
        assert not [one for one in host.facts.gaps if "setuid" in one.what]
    finally:
        for tree in trees:
            shutil.rmtree(
                fresh / tree.split("/")[0] / tree.split("/")[1] if not tree.startswith("var") else fresh / "var/lib/docker",
                ignore_errors=True,
            )


def test_dpkg_finds_the_same_files_changed(fresh: Path) -> None:
    paths = ("usr/bin/passwd", "usr/bin/chage", "usr/bin/su")
    kept = {path: ((fresh / path).read_bytes(), (fresh / path).stat().st_mode) for path in paths[:2]}
    try:
        for path, (content, mode) in kept.items():
            put(fresh / path, content + b"x", stat.S_IMODE(mode))
        said = subprocess.run(["dpkg", f"--root={fresh}", "--verify"], capture_output=True, text=True, check=False).stdout
        changed = {one.path for one in privileged_programs(read(fresh).facts) if one.origin is Origin.CHANGED}
        assert changed == {line.split()[-1] for line in said.splitlines() if line.split()[-1].startswith("/usr/bin/")}
        assert changed == {f"/{path}" for path in kept}
    finally:
        for path, (content, mode) in kept.items():
            put(fresh / path, content, stat.S_IMODE(mode))


# -- attempts ---------------------------------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def planted(fresh: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A copy of the fresh Debian with everything planted."""
    root = tmp_path_factory.mktemp("planted") / "root"
    subprocess.run(["cp", "-a", fresh, root], check=True)
    (root / "etc/hostname").write_text("knot\n")
    for number, row in enumerate(ATTEMPTS):
        row["account"] = f"p{number}"
        plant = row.get("plant", ":")
        if "rule" in row:
            plant += f'; echo "$N ALL=(root) NOPASSWD: {row["rule"]}" > /etc/sudoers.d/$N; chmod 440 /etc/sudoers.d/$N'
        made = 'useradd -m -s /bin/bash "$N"; echo "$N:made-up-$N" | chpasswd; cd /home/$N; rm -f .bash_logout; '
        in_root(root, row, made + plant)
        if "capabilities" in row:
            subprocess.run(["setcap", row["capabilities"], root / f"opt/s{row['account']}"], check=True)
    return root


# Devices of its own: what an attempt, or root after it, does to them is not done to this machine's.
DEVICES = """
mount -t tmpfs none "$R/dev"; mkdir -m 1777 "$R/dev/shm"; mkdir "$R/dev/pts"; mount -t devpts -o newinstance,ptmxmode=0666 none "$R/dev/pts"
cp -a /dev/null /dev/zero /dev/full /dev/random /dev/urandom /dev/tty "$R/dev/"; ln -s pts/ptmx "$R/dev/ptmx"; ln -s /proc/self/fd "$R/dev/fd";
"""


def in_root(root: Path, row: Row, script: str, *, before: str = "") -> subprocess.CompletedProcess[str]:
    """Run a script as root in a root folder, in namespaces of its own; `before` outside of it, with the root folder as $R."""
    outer = f'{before} {DEVICES} mount -t proc none "$R/proc"; exec chroot "$R" sh -euc "$S"'
    env = {
        "PATH": "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
        "R": str(root),
        "S": script,
        "N": row["account"],
        "LC_ALL": "C",
    }
    command = ["unshare", "-m", "-p", "-f", "sh", "-euc", outer]
    done = subprocess.run(command, env=env, capture_output=True, text=True, check=False, timeout=60, stdin=subprocess.DEVNULL)
    assert done.returncode == 0 or before, (row["name"], done.stdout, done.stderr)
    return done


@pytest.fixture(scope="module")
def survey(planted: Path, tmp_path_factory: pytest.TempPathFactory) -> Any:
    folder = tmp_path_factory.mktemp("asked")
    return json.loads(fidelitas("survey", "--root", planted, "--name", "knot", "--format", "json", cwd=folder).out)


LAYER = """
mkdir -p "$R.layer"; mount -t tmpfs none "$R.layer"; mkdir "$R.layer/up" "$R.layer/work" "$R.layer/root"
mount -t overlay none -o "lowerdir=$R,upperdir=$R.layer/up,workdir=$R.layer/work" "$R.layer/root"; R="$R.layer/root";
"""
PROOF = {"root": "test -e /proof", "read-secrets": "test -e /tmp/secret"}


def comes_off(planted: Path, row: Row) -> bool:
    """Return whether the attempt of a row comes off."""
    script = """
        set +e
        touch /var/tmp/attempt; chmod 777 /var/tmp/attempt; printf '%s\n' "$A" > /var/tmp/attempt
        setpriv --reuid=$N --regid=$N --init-groups --inh-caps=-all env HOME=/home/$N USER=$N sh -c 'cd; . /var/tmp/attempt' > /dev/null 2>&1
        (eval "$L") > /dev/null 2>&1
        eval "$P" && echo CAME-OFF
    """
    right = row.get("right", "root")
    told = {"A": row["attempt"], "L": row.get("later", ":"), "P": row.get("proof") or PROOF[right]}
    shell = "".join(f"{name}={_quoted(text)}; " for name, text in told.items())
    return "CAME-OFF" in in_root(planted, row, shell + script, before=LAYER).stdout


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "'\\''") + "'"


@pytest.mark.parametrize("row", TRIED, ids=[row["name"] for row in TRIED])
def test_who_is_said_to_gain_a_right_gains_it(row: Row, planted: Path, survey: Any) -> None:
    right = row.get("right", "root")
    held = [one for one in survey["holders"]["holdings"] if one["holder"]["name"] == row["account"] and one["right"] in (right, "root")]
    sure = any(one["strength"] in ("direct", "certain") for one in held)
    if comes_off(planted, row):
        assert held, "not said"
    else:
        assert not sure, held


_PROGRAMS = tomllib.loads(files("fidelitas.rights.linux").joinpath("data/programs.toml").read_text("utf-8"))["program"]
HARMLESS = sorted(
    {name for entry in _PROGRAMS if entry.get("right") == "none" for name in entry["name"]} - {"[", "sleep", "yes", "tzselect"}
)


def test_programs_that_are_said_to_give_nothing_show_and_change_no_file(fresh: Path) -> None:
    """Each is given a file in the ways in which programs take one, with a deadline; what it says has nothing of it."""
    script = f"""
        set +e; cd /tmp; secret=MADE-UP; secret=$secret-SECRET
        printf "root:$secret:19000:0:99999:7:::\\n$secret a b\\nx = $secret\\n" > s; cp s before
        for p in {" ".join(HARMLESS)}; do
            command -v $p > /dev/null || continue
            echo "RAN $p"
            for o in "" -c -f -F -i -o -r -R -t -w -d --file= --config= --output= --files0-from=; do
                case $o in *=) timeout 1 $p ${{o}}s ;; *) timeout 1 $p $o s ;; esac < /dev/null > said 2>&1
                grep -q "$secret" said && echo "SHOWS $p $o"
            done
            cmp -s s before || {{ echo "CHANGES $p"; cp before s; }}
        done"""
    said = in_root(fresh, {"name": "harmless", "account": "root"}, script, before='mount -t tmpfs none "$R/tmp";').stdout.split("\n")
    assert len([line for line in said if line.startswith("RAN ")]) >= 60
    assert [line for line in said if line and not line.startswith("RAN ")] == []
