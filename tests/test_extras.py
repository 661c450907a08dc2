"""The core without its extras: it answers, and what needs an extra says so in one line."""

import subprocess
import sys
from pathlib import Path

import pytest

from fidelitas.extras import EXTRAS
from test_usage import SAMPLES

EVERY = sorted(module for modules, _ in EXTRAS.values() for module in modules)
WITHOUT = "import sys; sys.modules.update(dict.fromkeys({modules!r})); from fidelitas.cli import main; main({arguments!r})"


def without_extras(*arguments: str, cwd: Path) -> "subprocess.CompletedProcess[str]":
    """Run the program where no library of an extra is installed."""
    code = WITHOUT.format(modules=EVERY, arguments=list(arguments))
    environment = {"FIDELITAS_LEDGER": str(cwd / "ledger"), "HOME": str(cwd), "PATH": "/usr/bin:/bin", "LDAP_PASSWORD": "x"}
    return subprocess.run([sys.executable, "-c", code], cwd=cwd, env=environment, capture_output=True, text=True, check=False)


def test_the_core_surveys_and_answers_without_any_extra(tmp_path: Path) -> None:
    for name, text in {"passwd": "root:x:0:0::/root:/bin/sh\nines:x:1000:1000::/home/ines:/bin/sh\n", "sudoers": "ines ALL=ALL\n"}.items():
        (tmp_path / "image" / "etc").mkdir(parents=True, exist_ok=True)
        (tmp_path / "image" / "etc" / name).write_text(text)
    ran = without_extras("survey", "--root", "image", "--name", "knot", cwd=tmp_path)
    assert (ran.returncode, "ines" in ran.stdout) == (0, True), ran.stderr
    assert without_extras("usage", "--log", str(SAMPLES), cwd=tmp_path).returncode in (0, 3)
    assert "No module" not in ran.stderr


@pytest.mark.parametrize(
    ("extra", "arguments"),
    [
        ("postgresql", ["survey", "--postgresql", "postgresql://auditor@localhost/postgres"]),
        ("mariadb", ["survey", "--mariadb", "mariadb://auditor@localhost"]),
        ("directory", ["survey", "--directory", "ldap://localhost/dc=saltmarsh,dc=example"]),
        ("windows", ["usage", "--log", "Security.evtx", "--name", "avocet"]),
        ("parquet", ["export", "tables", "--parquet"]),
        ("figures", ["usage", "--log", str(SAMPLES), "--figures", "figures"]),
    ],
)
def test_a_missing_extra_is_one_line_with_the_command(extra: str, arguments: list[str], tmp_path: Path) -> None:
    (tmp_path / "Security.evtx").write_bytes(b"ElfFile\0" + bytes(100))
    ran = without_extras(*arguments, cwd=tmp_path)
    said = [line for line in ran.stderr.splitlines() if "is not installed" in line]
    assert len(said) == 1, ran.stderr
    assert f"pip install 'fidelitas[{extra}]'" in said[0]
    assert "Traceback" not in ran.stderr
    assert ran.returncode == 4
