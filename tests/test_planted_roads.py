"""Roads to root, to secrets and into the logs, planted in a small root folder and asked of the built program.

Each row of `samples/roads/*.toml` says what is planted, by a shell script run in the root folder, for which account ($N, with user ID $U), and
which right it must be named for; `finding` where a finding of medium severity or worse is enough.  Those that do not disturb one another are
planted together, each with an account of its own; the others one by one, of which a part is tried here and all with ROADS=all.
"""

import json
import os
import shutil
import subprocess
import sys
import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

TABLES = Path(__file__).parent / "samples" / "roads"
Row = dict[str, Any]


def rows(alone: bool) -> list[Row]:
    found = [row for table in sorted(TABLES.glob("*.toml")) for row in tomllib.loads(table.read_text())["road"]]
    return [row for row in found if bool(row.get("alone")) is alone]


TOGETHER = {
    family: [row for row in rows(alone=False) if row["family"] == family] for family in {row["family"] for row in rows(alone=False)}
}
ALONE = rows(alone=True)
TRIED = ALONE if os.environ.get("ROADS") == "all" else ALONE[::8]


@pytest.fixture(scope="session")
def base(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A small Debian-like root folder, in which nothing is found."""
    if os.geteuid() != 0:
        pytest.skip("planting needs root")
    folder = tmp_path_factory.mktemp("roads") / "base"
    folder.mkdir()
    subprocess.run(["sh", TABLES / "base.sh"], cwd=folder, check=True)
    return folder


def survey(base: Path, planted: list[Row], folder: Path) -> Any:
    root = folder / "root"
    subprocess.run(["cp", "-a", str(base), str(root)], check=True)
    for number, row in enumerate(planted):
        add_account(root, 2000 + number)
        row["account"] = f"m{2000 + number}"
    for number, row in enumerate(planted):
        surroundings = {**os.environ, "U": str(2000 + number), "N": row["account"]}
        done = subprocess.run(["sh", "-euc", row["plant"]], cwd=root, env=surroundings, capture_output=True, text=True, check=False)
        assert done.returncode == 0, (row["name"], done.stderr)
    program = Path(sys.executable).with_name("fidelitas")
    surroundings = {"PATH": os.environ["PATH"], "HOME": str(folder), "FIDELITAS_LEDGER": str(folder / "ledger")}
    command = [str(program), "survey", "--root", str(root), "--name", "knot", "--format", "json"]
    said = subprocess.run(command, env=surroundings, capture_output=True, text=True, check=False)
    assert "Traceback" not in said.stderr
    shutil.rmtree(root)
    return json.loads(said.stdout)


def add_account(root: Path, uid: int) -> None:
    name = f"m{uid}"
    for path, line in (
        ("etc/passwd", f"{name}:x:{uid}:{uid}::/home/{name}:/bin/bash"),
        ("etc/group", f"{name}:x:{uid}:"),
        ("etc/shadow", f"{name}:$6$saltsalt$Abcdefghij0123456789:19000::::::"),
    ):
        with (root / path).open("a") as file:
            file.write(f"{line}\n")
    (root / "home" / name).mkdir()
    os.chown(root / "home" / name, uid, uid)


def is_named(row: Row, document: Any, alone: bool) -> bool:
    who, right = row.get("who", row["account"]), row.get("right", "root")
    held = any(
        one["holder"]["name"] == who and one["right"].startswith(right) for one in document["holders"]["holdings"] if right not in ("", "?")
    )
    worst = [one for one in document["findings"]["findings"] if one["severity"] in ("critical", "high", "medium")]
    return held or any(alone or row["account"] in one["message"] for one in worst)


def test_nothing_is_found_where_nothing_is_planted(base: Path, tmp_path: Path) -> None:
    document = survey(base, [], tmp_path)
    assert not [one for one in document["findings"]["findings"] if one["severity"] in ("critical", "high", "medium")]
    assert {one["holder"]["name"] for one in document["holders"]["holdings"] if one["right"] == "root"} <= {
        "root",
        "tomas",
        "%sudo",
        "%disk",
    }


@pytest.mark.parametrize("family", sorted(TOGETHER))
def test_every_road_of_a_family_is_named(family: str, base: Path, tmp_path: Path, need: Callable[..., None]) -> None:
    need("setfacl", "ssh-keygen", root=True)
    document = survey(base, TOGETHER[family], tmp_path)
    assert [row["name"] for row in TOGETHER[family] if not is_named(row, document, alone=False)] == []


@pytest.mark.parametrize("row", TRIED, ids=lambda row: f"{row['family']}: {row['name']}")
def test_a_road_that_stands_alone_is_named(row: Row, base: Path, tmp_path: Path, need: Callable[..., None]) -> None:
    need("setfacl", "setcap", "ssh-keygen", root=True)
    document = survey(base, [row], tmp_path)
    assert is_named(row, document, alone=True), [(one["check"], one["severity"]) for one in document["findings"]["findings"]]
