"""The layer table of docs/architecture.md, enforced by reading the imports."""

import ast
import subprocess
import sys
from pathlib import Path

import pytest

SRC = Path(__file__).parent.parent / "src" / "fidelitas"

# Which rooms a room may import; every room may import itself.
MAY_IMPORT = {
    "text": set(),
    "errors": {"text"},
    "masking": set(),
    "patterns": set(),
    "trouble": {"facts", "text"},
    "facts": {"text"},
    "evidence": {"text", "errors", "masking"},
    "sources": {"evidence", "text", "errors", "masking"},
    "languages": {"facts", "text", "errors", "masking", "patterns", "trouble"},
    "rights": {"facts", "text", "masking", "patterns"},
    "usage": {"facts", "text"},
    "findings": {"text"},
    "checks": {"usage", "rights", "facts", "findings", "patterns", "text", "trouble"},
    "platforms": {"languages", "rights", "checks", "findings"},
    "audit": {"languages", "platforms", "rights", "checks", "facts", "findings", "memberships", "text", "trouble"},
    "charter": {"rights", "facts", "text", "errors"},
    "rehearsal": {"rights", "facts", "text"},
    "replay": {"masking", "inquiry", "refusal", "languages", "usage", "rights", "facts", "errors"},
    "refusal": {"inquiry", "usage", "rights", "facts"},
    "logbook": {"languages", "usage", "rights", "checks", "facts", "findings", "errors", "trouble"},
    "memberships": {"facts"},
    "people": {"rights", "facts", "errors", "text"},
    "comparison": {"rights"},
    "inquiry": {"languages", "rights", "facts", "text", "errors"},
    "ledger": {"evidence", "facts", "findings", "text", "errors"},
    "reports": {"charter", "comparison", "findings", "logbook", "people", "rehearsal", "replay", "rights", "usage", "facts", "text"},
    "demo": {"evidence", "text", "errors"},
    "cli": {
        "audit",
        "charter",
        "checks",
        "comparison",
        "trouble",
        "demo",
        "errors",
        "evidence",
        "facts",
        "findings",
        "inquiry",
        "languages",
        "ledger",
        "logbook",
        "memberships",
        "people",
        "platforms",
        "rehearsal",
        "replay",
        "reports",
        "rights",
        "sources",
        "text",
        "usage",
        "",
    },
    "__main__": {"cli"},
    "": set(),
}
# Who may use what touches the world or the terminal.
LIBRARIES = {
    "click": {"cli"},
    "rich": {"reports"},
    "matplotlib": {"reports"},
    "scipy": {"usage"},
    "psycopg": {"sources"},
    "pymysql": {"sources"},
    "evtx": {"sources"},
    "ldap3": {"sources"},
    "subprocess": {"sources"},
    "zstandard": {"evidence", "ledger", "sources"},
    "tarfile": {"evidence"},
}

FILES = sorted(SRC.rglob("*.py"))


def room_of(path: Path) -> str:
    first = path.relative_to(SRC).parts[0].removesuffix(".py")
    return "" if first == "__init__" else first


def imports(path: Path) -> set[str]:
    names: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"{path}: relative import"
            names.add(node.module or "")
            names |= {f"fidelitas.{alias.name}" for alias in node.names if node.module == "fidelitas"}
    return names


@pytest.mark.parametrize("path", FILES, ids=lambda path: str(path.relative_to(SRC)))
def test_a_room_imports_only_what_it_may(path: Path) -> None:
    room = room_of(path)
    for name in imports(path):
        first, _, rest = name.partition(".")
        if first == "fidelitas" and rest:
            other = rest.partition(".")[0]
            other = other if other in MAY_IMPORT else ""
            assert other == room or other in MAY_IMPORT[room], f"{path} imports {name}"
        elif first in LIBRARIES:
            assert room in LIBRARIES[first], f"{path} imports {name}"


@pytest.mark.parametrize("path", [path for path in FILES if room_of(path) != "cli"], ids=lambda path: str(path.relative_to(SRC)))
def test_only_the_command_line_prints(path: Path) -> None:
    calls = [
        node.func.id for node in ast.walk(ast.parse(path.read_text())) if isinstance(node, ast.Call) and isinstance(node.func, ast.Name)
    ]
    assert "print" not in calls
    assert "input" not in calls


def test_help_and_version_import_nothing_heavy() -> None:
    code = """
import sys
from click.testing import CliRunner
from fidelitas.cli import main
for argument in ("--help", "--version"):
    assert CliRunner().invoke(main, [argument]).exit_code == 0
heavy = {"rich", "zstandard", "numpy", "scipy", "matplotlib", "fidelitas.audit", "fidelitas.facts", "sqlite3", "tarfile"} & set(sys.modules)
assert not heavy, heavy
"""
    subprocess.run([sys.executable, "-c", code], check=True)


def test_the_documented_table_is_this_one() -> None:
    text = (SRC.parent.parent / "docs" / "architecture.md").read_text(encoding="utf-8")
    rows = [line.split("|") for line in text.splitlines() if line.startswith("| `")]
    documented = {row[1].strip().strip("`/").removesuffix(".py"): {word.strip(" `") for word in row[3].split(",")} - {"–"} for row in rows}
    expected = {room: allowed - {""} for room, allowed in MAY_IMPORT.items() if room not in ("", "__main__")}
    assert {room: documented.get(room) for room in expected} == expected
