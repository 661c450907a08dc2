"""Accounts and groups that systemd knows of by records in JSON: the real nss-systemd says who is in which group."""

import json
import os
import subprocess
from pathlib import Path

import pytest

from support import fidelitas

NSS = next(Path("/usr/lib").glob("*/libnss_systemd.so.2"), None)
RECORD = {"userName": "oda", "uid": 4711, "gid": 4711}
CREW = {"groupName": "crew", "gid": 4720}
# What is dropped in: file name to content; a record gets the link by number that nss-systemd wants.
CASES: dict[str, dict[str, object]] = {
    "nothing": {"oda.user": RECORD},
    "list of groups in the record": {"oda.user": RECORD | {"memberOf": ["sudo", "crew"]}, "crew.group": CREW},
    "empty membership": {"oda.user": RECORD, "oda:sudo.membership": ""},
    "membership in a classic group": {"oda.user": RECORD, "oda:sudo.membership": "x"},
    "membership in a recorded group": {"oda.user": RECORD, "oda:crew.membership": "x", "crew.group": CREW},
    "list of members in the group's record": {"oda.user": RECORD, "crew.group": CREW | {"members": ["oda"]}},
    "primary group": {"oda.user": RECORD | {"gid": 27}},
    "membership in another name of a group": {"oda.user": RECORD, "oda:ops.membership": "x", "ops.group": {"groupName": "ops", "gid": 27}},
    "membership of an account of the file": {"ines:sudo.membership": "x"},
    "record with a section of passwords": {"oda.user": RECORD | {"privileged": {"hashedPassword": ["$6$s$h"]}}, "oda:sudo.membership": "x"},
    "record of another name": {"eve.user": RECORD, "oda:sudo.membership": "x", "eve:sudo.membership": "x"},
    "two accounts": {
        "oda.user": RECORD,
        "pia.user": {"userName": "pia", "uid": 4712, "gid": 4712, "realName": "Pia", "locked": True},
        "pia:sudo.membership": "x",
    },
}


def drop(root: Path, files: dict[str, object]) -> None:
    folder = root / "etc/userdb"
    folder.mkdir(parents=True)
    for name, content in files.items():
        (folder / name).write_text(content if isinstance(content, str) else json.dumps(content))
        if isinstance(content, dict) and name.endswith((".user", ".group")):
            number = content["uid" if name.endswith(".user") else "gid"]
            (folder / f"{number}.{name.rpartition('.')[2]}").symlink_to(name)


@pytest.fixture
def root(tmp_path: Path) -> Path:
    files = {
        "etc/passwd": "root:x:0:0::/root:/bin/bash\nines:x:1003:1003::/home/ines:/bin/bash\n",
        "etc/group": "root:x:0:\nsudo:x:27:\nines:x:1003:\n",
        "etc/shadow": "root:*:19000::::::\nines:*:19000::::::\n",
        "etc/nsswitch.conf": "passwd: files systemd\ngroup: files [SUCCESS=merge] systemd\nshadow: files systemd\n",
        "etc/sudoers": "%sudo ALL=(ALL:ALL) NOPASSWD: ALL\n",
        "etc/os-release": "ID=debian\n",
    }
    for path, content in files.items():
        (tmp_path / "root" / path).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / "root" / path).write_text(content)
    (tmp_path / "root/etc/sudoers").chmod(0o440)
    return tmp_path / "root"


def really_in_sudo(root: Path) -> set[str]:
    """Return which accounts a process of theirs has group sudo for, as this machine's C library sees the files of `root`."""
    script = """
        mount -t tmpfs none /run && mkdir /run/userdb && cp -a etc/userdb/. /run/userdb/
        for file in passwd group shadow nsswitch.conf; do mount --bind etc/$file /etc/$file; done
        for name in ines oda pia eve; do
            getent passwd $name > /run/who || continue
            for number in $(getent initgroups $name | cut -c 22-) $(getent passwd $name | cut -d : -f 4); do [ $number != 27 ] || echo $name; done
        done
    """
    done = subprocess.run(["unshare", "-m", "sh", "-euc", script], cwd=root, capture_output=True, text=True, check=False)
    return set(done.stdout.split())


@pytest.mark.skipif(os.geteuid() != 0 or NSS is None, reason="needs root and libnss-systemd")
@pytest.mark.parametrize("case", CASES)
def test_who_is_in_a_group_is_what_nss_systemd_says(case: str, root: Path, tmp_path: Path) -> None:
    drop(root, CASES[case])
    held = fidelitas("survey", "--root", root, "--name", "knot", "--no-file-scan", "--format", "json", cwd=tmp_path).json["holders"][
        "holdings"
    ]
    holders = {one["holder"]["name"] for one in held if one["right"] == "root" and "sudo" in {link["mechanism"] for link in links(one)}}
    assert holders - {"%sudo"} == really_in_sudo(root)


def links(holding: dict[str, list[dict[str, list[dict[str, str]]]]]) -> list[dict[str, str]]:
    return [link for route in holding["routes"] for link in route["links"]]


def test_what_systemd_would_not_use_is_said(root: Path, tmp_path: Path) -> None:
    files: dict[str, object] = {
        "bad.user": "{",
        "oda.user": RECORD | {"uid": -1},
        "eve.user": RECORD,
        "ines:nowhere.membership": "x",
        "ines:sudo.membership": "",
    }
    drop(root, files)
    fidelitas("survey", "--root", root, "--name", "knot", cwd=tmp_path)
    told = {gap["what"]: gap["why"] for gap in fidelitas("coverage", "--format", "json", cwd=tmp_path).json["subjects"][0]["gaps"]}
    assert "not a record that systemd uses" in told["record /etc/userdb/bad.user"]
    assert "not a user or group ID" in told["record /etc/userdb/oda.user"]
    assert "not the name of the file" in told["record /etc/userdb/eve.user"]
    assert "no group of that name" in told["membership of ines in nowhere"]
    assert "the file is empty" in told["membership of ines in sudo"]


def test_hashes_of_records_are_not_copied(root: Path, tmp_path: Path) -> None:
    home = root / "var/lib/systemd/home"
    home.mkdir(parents=True)
    record = RECORD | {
        "memberOf": ["sudo"],
        "privileged": {"hashedPassword": ["$6$salt$Secret1"], "fido2HmacSalt": [{"salt": "Secret2", "hashedPassword": "$6$Secret3"}]},
    }
    (home / "oda.identity").write_text(json.dumps(record, indent=2))
    (root / "etc/userdb").mkdir()
    (root / "etc/userdb/oda.user-privileged").write_text('{"hashedPassword":["$6$Secret4"]}')
    bundle = tmp_path / "bundle.tar"
    probe = fidelitas("probe", cwd=tmp_path).out
    bundle.write_bytes(subprocess.run(["sh", "-s", "--", "--root", root], input=probe.encode(), capture_output=True, check=True).stdout)
    assert b'"userName": "oda"' in bundle.read_bytes()
    assert b"Secret" not in bundle.read_bytes()
    fidelitas("survey", bundle, "--name", "knot", cwd=tmp_path)
    account = fidelitas("account", "oda", cwd=tmp_path).out
    assert "password usable" in account
    assert "full control" in account


@pytest.mark.parametrize(
    ("mode", "seusers", "told"),
    [
        ("enforcing", "# made by hand\nroot:unconfined_u:s0\n__default__:unconfined_u:s0\n", []),
        ("permissive", "__default__:user_u:s0\n", []),
        ("enforcing", "ines:staff_u:s0\n__default__:user_u:s0\n", ["ines", "every login that is not named"]),
    ],
)
def test_logins_that_selinux_confines_are_named_as_not_judged(root: Path, tmp_path: Path, mode: str, seusers: str, told: list[str]) -> None:
    (root / "etc/selinux/targeted").mkdir(parents=True)
    (root / "etc/selinux/config").write_text(f"SELINUX={mode}\nSELINUXTYPE=targeted\n")
    (root / "etc/selinux/targeted/seusers").write_text(seusers)
    fidelitas("survey", "--root", root, "--name", "knot", "--no-file-scan", cwd=tmp_path)
    gaps = fidelitas("coverage", "--format", "json", cwd=tmp_path).json["subjects"][0]["gaps"]
    why = [gap["why"] for gap in gaps if gap["what"].startswith("SELinux user")]
    assert why == [f"the policy confines {who}; what it forbids is not judged" for who in told]
