"""What a ledger holds, and whether it is what it was: by the built program, on ledgers that were damaged."""

import re
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from support import fidelitas
from test_cli import check_schema


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("ledger")
    assert fidelitas("demo", cwd=folder).status in (0, 4)
    return folder / "demo-estate"


def test_a_ledger_says_what_it_holds_and_that_all_is_as_it_came(demo: Path, tmp_path: Path) -> None:
    document = fidelitas("ledger", "info", "--ledger", demo / "ledger", "--format", "json", cwd=tmp_path).json
    check_schema("ledger", document)
    assert document["evidence_bytes"] == sum(path.stat().st_size for path in (demo / "ledger/evidence").rglob("*.zst"))
    assert len(document["surveys"]) == 1
    assert "tern" in document["surveys"][0]["subjects"]
    ran = fidelitas("ledger", "verify", "--ledger", demo / "ledger", cwd=tmp_path)
    assert (ran.status, f"verified: {document['evidence_count']} pieces" in ran.err) == (0, True)
    assert fidelitas("ledger", "info", "--ledger", "none", cwd=tmp_path).status == 2


@pytest.mark.parametrize("damage", ["flipped", "cut", "missing"])
def test_damage_costs_the_subjects_that_it_names_and_no_others(demo: Path, tmp_path: Path, damage: str) -> None:
    copied = tmp_path / "copy"
    for path in (demo / "ledger").rglob("*"):
        target = copied / path.relative_to(demo / "ledger")
        target.parent.mkdir(parents=True, exist_ok=True)
        if path.is_file():
            target.write_bytes(path.read_bytes())
    before = fidelitas("holders", "--ledger", copied, "--format", "csv", cwd=tmp_path).out
    piece = max(copied.rglob("*.zst"), key=lambda path: path.stat().st_size)
    content = bytearray(piece.read_bytes())
    content[len(content) // 2] ^= 1
    if damage == "missing":
        piece.unlink()
    else:
        piece.write_bytes(content if damage == "flipped" else content[: len(content) // 3])
    ran = fidelitas("ledger", "verify", "--ledger", copied, cwd=tmp_path)
    assert ran.status == 4
    (line,) = [line for line in ran.err.splitlines() if str(piece) in line]
    assert "1 piece of evidence damaged, 1 of them the newest" in ran.err
    subject = line.split(" of ")[1].split(" in ")[0]
    after = fidelitas("holders", "--ledger", copied, "--format", "csv", cwd=tmp_path).out
    assert {row for row in after.splitlines() if row.split(",")[1] != subject} <= set(before.splitlines())
    assert len(after.splitlines()) > 10


def test_the_units_of_a_scheduled_survey_are_as_systemd_wants_them(tmp_path: Path, need: Callable[..., None]) -> None:
    need("systemd-analyze")
    page = (Path(__file__).parent.parent / "docs/scheduled.md").read_text()
    units = dict(re.findall(r"```ini\n# (\S+)\n(.*?)```", page, re.DOTALL))
    assert set(units) == {"fidelitas-survey.service", "fidelitas-survey.timer"}
    for name, text in units.items():
        (tmp_path / name).write_text(text.replace("User=fidelitas", "User=daemon"))
    ran = subprocess.run(
        ["systemd-analyze", "verify", *(tmp_path / name for name in units)], capture_output=True, text=True, check=False, timeout=60
    )
    assert [line for line in ran.stderr.splitlines() if "fidelitas" in line] == []
    (command,) = re.findall(r"^ExecStart=/usr/bin/env fidelitas (.*)$", units["fidelitas-survey.service"], re.MULTILINE)
    assert command in page.split("```crontab")[1]
    (tmp_path / "estate.toml").write_text("format = 1\n")
    (tmp_path / "estate.toml").chmod(0o644)
    words = command.replace("/etc/fidelitas/estate.toml", str(tmp_path / "estate.toml")).split()
    refused = fidelitas(*words, cwd=tmp_path)
    assert (refused.status, "declares no subject" in refused.err) == (2, True)
