"""Real sudo as the judge of `may --batch`: decision, deciding line and password, in worlds made from a seed."""

import json
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from policy_writer import PolicyWriter
from support import fidelitas

pytestmark = pytest.mark.judge

WORLD = Path(__file__).parent / "judges" / "sudo_world.py"
# In the ordinary run 24 policies with 14 questions each; `make test-long` asks thousands.
POLICIES, QUESTIONS = (int(number) for number in os.environ.get("JUDGE_QUESTIONS", "16x14").split("x"))


def judged(case: dict[str, Any]) -> dict[int, dict[str, Any]]:
    done = subprocess.run([sys.executable, WORLD], input=json.dumps(case), capture_output=True, text=True, check=False, timeout=600)
    assert done.returncode == 0, done.stderr
    return {answer["id"]: answer for answer in map(json.loads, done.stdout.splitlines())}


def ours(root: Path, case: dict[str, Any], cwd: Path) -> dict[int, dict[str, Any]]:
    (cwd / "questions.jsonl").write_text("".join(json.dumps(question) + "\n" for question in case["questions"]))
    ran = fidelitas("may", "--root", root, "--batch", "questions.jsonl", cwd=cwd)
    assert ran.status == 0, ran.err
    return {answer["id"]: answer for answer in map(json.loads, ran.out.splitlines())}


def compared(answer: dict[str, Any]) -> tuple[Any, ...]:
    rule = answer.get("rule")
    return answer.get("decision"), (rule["path"], rule["line"]) if rule else None, answer.get("password")


@pytest.mark.parametrize("seed", range(POLICIES))
def test_sudo_itself_decides_the_same(seed: int, tmp_path: Path, need: Callable[..., None]) -> None:
    need("sudo", "ip", root=True)
    case = PolicyWriter(seed).case(QUESTIONS) | {"root": str(tmp_path / "root")}
    theirs = judged(case)
    mine = ours(tmp_path / "root", case, tmp_path)
    wrong = [
        (question, compared(theirs[question["id"]]), compared(mine[question["id"]]), theirs[question["id"]]["said"])
        for question in case["questions"]
        if compared(theirs[question["id"]]) != compared(mine[question["id"]])
    ]
    assert not wrong, case["files"]["/etc/sudoers"]
