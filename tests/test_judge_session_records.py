"""Real sudo that records sessions and logs sub-commands: which shells are recorded, where, and whose commands were run in them."""

import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from support import fidelitas, open_up
from test_judge_sudo import Writer, write

pytestmark = pytest.mark.judge

POLICY = """\
Defaults !lecture, !syslog, logfile={place}/logs/sudo.log, iolog_dir={place}/logs/sudo-io, log_exit_status, {form}
ines, rada ALL=(ALL) NOPASSWD: ALL
Defaults:ines log_output, log_subcmds
"""
WORLD = """\
set -eu
for file in passwd group shadow sudoers nsswitch.conf; do mount --bind "$1/$file" "/etc/$file"; done
mount --bind "$1/sudoers.d" /etc/sudoers.d
as() { who=$1; shift; setpriv --reuid "$who" --regid "$who" --clear-groups script -qec "$*" /dev/null > /dev/null; }
as ines "sudo /bin/bash -i" << X
/usr/bin/cat /etc/shadow
/usr/bin/true '; EXIT=0'
exit
X
as rada "sudo /bin/bash -i" << X
/usr/bin/id
exit
X
"""


@pytest.fixture(scope="module", params=["log_format=sudo", "log_format=json"])
def logs(tmp_path_factory: pytest.TempPathFactory, request: pytest.FixtureRequest) -> Path:
    place = tmp_path_factory.mktemp("records")
    Writer(1).etc(place)
    for extra in (place / "etc/sudoers.d").iterdir():
        extra.unlink()
    write(place / "etc/sudoers", POLICY.format(place=place, form=request.param), 0o440)
    (place / "logs").mkdir()
    open_up(place)
    world = ["unshare", "--mount", "--propagation", "private", "bash", "-c", WORLD, "world", str(place / "etc")]
    ran = subprocess.run(world, env={"PATH": "/usr/sbin:/usr/bin:/sbin:/bin"}, capture_output=True, text=True, check=False, timeout=60)
    assert ran.returncode == 0, ran.stderr
    return place / "logs"


@pytest.fixture(autouse=True)
def ready(need: Callable[..., None]) -> None:
    need("sudo", "unshare", "setpriv", "script", root=True)


@pytest.mark.parametrize("with_records", [False, True])
def test_a_recorded_shell_says_where_and_its_commands_are_its_persons(logs: Path, tmp_path: Path, with_records: bool) -> None:
    document = fidelitas("usage", "--log", logs if with_records else logs / "sudo.log", "--events", "--format", "json", cwd=tmp_path).json
    shells = {one["person"]: one for one in document["sessions"] if one["shell"]}
    assert set(shells) == {"ines", "rada"}
    recording = shells["ines"]["recording"]
    assert recording.rpartition("/")[2].lstrip("0") == "1"
    assert shells["ines"]["commands_logged"]
    assert (shells["rada"]["recording"], shells["rada"]["commands_logged"]) == (None, False)
    within = [one for one in document["events"] if one["within_session"]]
    assert {"/usr/bin/cat /etc/shadow", "/usr/bin/true '; EXIT=0'"} <= {one["command"] for one in within}
    assert {tuple(one["persons"]) for one in within} == {("ines",)}
    used = [one["command"] for one in document["events"] if one["kind"] == "used" and not one["within_session"]]
    assert used == ["/bin/bash -i", "/bin/bash -i"]
    assert "use.secret-read" in {one["check"] for one in document["findings"]}


def test_the_records_alone_say_who_had_which_shell(logs: Path, tmp_path: Path) -> None:
    out = fidelitas("usage", "--log", logs / "sudo-io", cwd=tmp_path, env={"COLUMNS": "200"}).out
    assert "of which 1 recorded by sudo" in out
    assert f"{logs}/sudo-io/00/00/01" in out


def test_records_before_json_are_read_and_those_that_are_no_records_are_an_error(tmp_path: Path) -> None:
    record = tmp_path / "sudo-io/00/00/0A"
    record.mkdir(parents=True)
    (tmp_path / "sudo-io/seq").write_text("00000A\n")
    (record / "timing").write_text("")
    (record / "log").write_text("1795921994:ines:root::/dev/pts/0:24:80\n/home/ines\n/bin/bash -l\n")
    (event,) = fidelitas("usage", "--log", tmp_path / "sudo-io", "--events", "--format", "json", cwd=tmp_path).json["events"]
    assert (event["persons"], event["command"], event["recording"]) == (["ines"], "/bin/bash -l", str(record))
    broken = tmp_path / "sudo-io/00/00/01"
    broken.mkdir()
    for name in ("timing", "log"):
        (broken / name).write_text("no such line\n")
    ran = fidelitas("usage", "--log", tmp_path / "sudo-io", "--events", cwd=tmp_path)
    assert ran.status == 4
    assert "/bin/bash -l" in ran.out
    assert "could not read the record of a session" in ran.err
