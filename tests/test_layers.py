"""The layer table of docs/architecture.md, enforced by reading the imports."""

import ast
import re
import subprocess
import sys
from importlib import import_module
from io import BytesIO
from operator import attrgetter
from pathlib import Path
from types import FrameType

import pytest

from fidelitas.audit import audit
from fidelitas.evidence import make_bundle, make_rows_bundle, read_bundle
from fidelitas.ledger import Ledger
from fidelitas.reports.holders import Filter, holders_table, selected
from support import NOW, bundle

SRC = Path(__file__).parent.parent / "src" / "fidelitas"

# Which rooms a room may import; every room may import itself.  A room is a folder or a module; the longest name counts, so that what
# stands here as "rights" is that room's own `__init__` alone.
_RIGHTS = {"rights.graph", "rights.accounts", "rights.subject"}
_CHECKED = {"checks.check", "facts", "findings", "text"}
MAY_IMPORT: dict[str, set[str]] = {
    "text": set(),
    "errors": {"text"},
    "extras": {"errors"},
    "cycles": set(),
    "equality": set(),
    "masking": set(),
    "numeric": set(),
    "patterns": set(),
    "recorded": set(),
    "facts": {"equality", "text"},
    "trouble": {"facts", "text"},
    "evidence": {"equality", "text", "errors", "masking", "recorded"},
    "sources": {"estate", "evidence", "extras", "text", "errors", "masking", "trouble"},
    "languages": set(),
    "languages.lines": {"facts", "text"},
    "languages.words": set(),
    "languages.netgroups": set(),
    "languages.evidence": {"facts"},
    "languages.rows": {"facts", "languages.evidence", "text"},
    "languages.listed_facts": {"languages.rows", "text"},
    "languages.utmp": {"text"},
    "languages.security_descriptors": {"facts"},
    "languages.binary_descriptors": {"facts"},
    "languages.directory_control": {"facts", "languages.binary_descriptors", "languages.ldap", "languages.security_descriptors"},
    "languages.sudoers": {"facts", "languages.lines", "languages.words", "patterns", "text"},
    "languages.ldap": {"distinguished_names", "facts", "languages.lines", "languages.sudoers", "masking", "text"},
    "languages.logs": {"errors", "facts", "languages.utmp", "masking", "numeric", "recorded", "text", "trouble"},
    "languages.linux": {
        "facts", "languages.evidence", "languages.ldap", "languages.lines", "languages.netgroups", "languages.sudoers", "languages.utmp",
        "languages.words", "masking", "text",
    },
    "languages.windows": {"errors", "facts", "languages.evidence", "languages.logs", "languages.rows", "languages.security_descriptors"},
    "languages.directory": {"facts", "languages.directory_control", "languages.evidence", "languages.ldap", "languages.netgroups", "masking", "text"},
    "languages.postgresql": {"facts", "languages.evidence", "languages.listed_facts", "languages.rows", "text"},
    "languages.mariadb": {"facts", "languages.evidence", "languages.rows"},
    "rights.graph": {"equality", "text"},
    "rights.accounts": {"equality", "facts", "rights.graph"},
    "rights.subject": {"facts", "rights.accounts", "rights.graph", "text"},
    "rights.access_lists": {"facts"},
    "rights.domain": {"facts", "rights.graph"},
    "rights.linux": {"equality", "facts", "masking", "patterns", "text", *_RIGHTS},
    "rights.postgresql": {"facts", "patterns", "text", *_RIGHTS},
    "rights.mariadb": {"facts", "text", *_RIGHTS},
    "distinguished_names": set(),
    "rights.directory": {"distinguished_names", "facts", "patterns", "rights.access_lists", *_RIGHTS},
    "rights.windows": {"facts", "rights.access_lists", "rights.domain", *_RIGHTS},
    "rights.estate": {"facts", "rights.directory", "rights.linux", "text", *_RIGHTS},
    "rights": {"rights.directory", "rights.linux", "rights.mariadb", "rights.postgresql", "rights.windows", *_RIGHTS},
    "usage": {"facts", "numeric", "text"},
    "findings": {"text"},
    "checks.check": {"findings", "text"},
    "checks.linux": {"patterns", "rights.accounts", "rights.graph", "rights.linux", *_CHECKED},
    "checks.postgresql": {"rights.graph", "rights.postgresql", *_CHECKED},
    "checks.mariadb": {"rights.graph", "rights.mariadb", *_CHECKED},
    "checks.directory_control": {"rights.directory", "rights.graph", *_CHECKED},
    "checks.directory": {"checks.directory_control", "rights.directory", "rights.graph", *_CHECKED},
    "checks.windows": {"rights.graph", "rights.windows", *_CHECKED},
    "checks.estate": {"patterns", "rights.accounts", "rights.linux", *_CHECKED},
    "checks.usage": {"trouble", "usage", *_CHECKED},
    "checks": {"checks.check", "checks.estate", "checks.linux", "facts", "findings", "rights.linux", "trouble"},
    "judging": {"facts", "languages", "memberships", "rights"},
    "platforms": {"checks", "extras", "findings", "judging", "languages", "rights"},
    "conclusions": {"facts", "findings", "judging", "rights", "text", "usage"},
    "audit": {"checks", "conclusions", "errors", "facts", "findings", "judging", "languages", "memberships", "platforms", "rights", "text", "trouble"},
    "changes": {"audit", "conclusions", "facts", "findings", "rights", "trouble"},
    "revisions": {"audit", "changes", "facts", "languages"},
    "narrowing": {"audit", "errors", "facts", "inquiry", "languages", "masking", "rehearsal", "replay", "revisions", "rights", "text"},
    "peers": {"people", "rights", "usage"},
    "charter": {"rights", "facts", "findings", "estate", "people", "text", "errors"},
    "rehearsal": {"audit", "changes", "facts", "memberships", "rights"},
    "replay": {"masking", "inquiry", "refusal", "languages", "usage", "rights", "facts", "errors", "text"},
    "refusal": {"inquiry", "usage", "rights", "facts"},
    "engines": {"audit", "conclusions", "cycles", "errors", "judging", "ledger", "logbook", "logbook_memory", "rights"},
    "logbook_memory": {"conclusions", "findings", "languages", "logbook", "logbook_form"},
    "logbook_form": {"conclusions", "facts", "languages", "logbook", "usage"},
    "logbook": {"languages", "logbook_place", "usage", "rights", "facts", "text", "trouble"},
    "logbook_place": {"languages", "logbook_state", "usage", "checks", "facts", "findings", "errors", "text", "trouble"},
    "logbook_state": {"facts", "languages", "usage"},
    "memberships": {"distinguished_names", "facts", "rights"},
    "people": {"rights", "facts", "errors", "text"},
    "comparison": {"rights"},
    "obstacles": {"facts", "rights"},
    "inquiry": {"languages", "obstacles", "rights", "facts", "text", "errors"},
    "ledger": {"evidence", "facts", "findings", "text", "errors"},
    "surveying": {"errors", "estate", "evidence", "ledger", "platforms", "sources", "trouble"},
    "configuration": {"errors"},
    "estate": {"errors", "text"},
    "administration": {"evidence", "facts", "languages", "rights", "text"},
    "connections": {"rights"},
    "doors": {"facts", "rights"},
    "departure": {"facts", "memberships", "people", "rights", "text"},
    "reviews": {"charter", "departure", "errors", "facts", "people", "rights", "text"},
    "reviewing": {"", "audit", "errors", "ledger", "reviews", "rights"},
    "excerpts": {"audit", "evidence", "masking", "text"},
    "reports.forms": {"errors", "findings", "reports.blocks", "reports.drawing", "reports.issue", "reports.open_events", "reports.report", "reports.table", "text", ""},
    "reports.issue": {"findings", "text"},
    "reports.open_events": {"findings", "text", ""},
    "reports.drawing": set(),
    "reports.report": {"reports.blocks", "reports.drawing", "reports.issue", "reports.table"},
    "reports.blocks": set(),
    "reports.table": set(),
    "reports": {
        "", "administration", "changes", "charter", "comparison", "configuration", "connections", "departure", "doors", "estate", "facts", "findings", "inquiry", "ledger", "logbook", "memberships", "narrowing", "obstacles", "peers", "people", "refusal", "rehearsal", "replay", "reports.blocks",
        "reports.drawing", "reports.issue", "reports.open_events", "reports.report", "reports.table", "reviews", "revisions", "rights", "text", "usage",
    },
    "exporting": {"errors", "findings", "reports", "rights", "text", "usage"},
    "pages": {"audit", "charter", "evidence", "excerpts", "facts", "findings", "people", "reports", "reviews", "rights", "text", "usage", ""},
    "demo": {"evidence", "text", "errors"},
    "cli": {
        "administration", "audit", "changes", "charter", "checks", "conclusions", "connections", "comparison", "configuration", "cycles", "departure", "doors", "engines", "equality", "estate", "excerpts", "extras", "trouble", "demo", "errors", "evidence", "facts", "findings", "inquiry", "languages",
        "ledger", "logbook", "logbook_form", "logbook_memory", "memberships", "narrowing", "exporting", "pages", "peers", "people", "platforms", "rehearsal", "replay", "reports", "reviewing", "reviews", "revisions", "rights", "sources", "surveying", "text", "usage", "",
    },
    "__main__": {"cli"},
    "": set(),
}  # fmt: skip
# Who may use what touches the world or the terminal.
LIBRARIES = {
    "click": {"cli"},
    "jinja2": {"pages"},
    "markupsafe": {"pages"},
    "rich": {"reports.forms"},
    "matplotlib": {"reports"},
    "pyarrow": {"exporting"},
    "scipy": {"peers"},
    "psycopg": {"ledger", "sources"},
    "sqlalchemy": {"ledger"},
    "alembic": {"ledger"},
    "pymysql": {"sources"},
    "evtx": {"sources"},
    "ldap3": {"sources"},
    "subprocess": {"sources"},
    "zstandard": {"evidence", "ledger", "sources", "usage"},
    "tarfile": {"evidence", "reviews"},
    "tomlkit": {"charter"},
}

FILES = sorted(SRC.rglob("*.py"))


def room_of(name: str) -> str:
    """Return the room of a module, by its name without that of the package."""
    parts = name.split(".")
    return next((room for end in range(len(parts), 0, -1) if (room := ".".join(parts[:end])) in MAY_IMPORT), "")


def name_of(path: Path) -> str:
    return ".".join(path.relative_to(SRC).with_suffix("").parts).removesuffix("__init__").strip(".")


def may(room: str, other: str) -> bool:
    """Return whether a room may import another: itself, what stands in its row, and what is within that."""
    return other == room or any(other == one or other.startswith(f"{one}.") for one in MAY_IMPORT[room])


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


@pytest.mark.parametrize("path", FILES, ids=name_of)
def test_a_room_imports_only_what_it_may(path: Path) -> None:
    room = room_of(name_of(path))
    for name in imports(path):
        first, _, rest = name.partition(".")
        if first == "fidelitas" and rest:
            assert may(room, room_of(rest)), f"{path} ({room}) imports {name}"
        elif first in LIBRARIES:
            assert {room, room.partition(".")[0]} & LIBRARIES[first], f"{path} imports {name}"


def test_every_row_is_of_a_room_that_is_there_and_every_module_has_one() -> None:
    names = {name_of(path) for path in FILES}
    assert all(room in names for room in MAY_IMPORT)
    assert not [name for name in names if name and not room_of(name)]


@pytest.mark.parametrize("path", [path for path in FILES if room_of(name_of(path)) != "cli"], ids=name_of)
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
heavy = {"rich", "zstandard", "numpy", "scipy", "matplotlib", "fidelitas.audit", "fidelitas.facts", "sqlite3", "sqlalchemy", "tarfile"} & set(sys.modules)
assert not heavy, heavy
"""
    subprocess.run([sys.executable, "-c", code], check=True)


def test_the_documented_table_is_this_one() -> None:
    text = (SRC.parent.parent / "docs" / "architecture.md").read_text(encoding="utf-8")
    rows = [line.split("|") for line in text.splitlines() if line.startswith("| `")]
    documented = {row[1].strip().strip("`/").removesuffix(".py"): {word.strip(" `") for word in row[3].split(",")} - {"–"} for row in rows}
    expected = {room: allowed - {""} for room, allowed in MAY_IMPORT.items() if room not in ("", "__main__")}
    assert {room: documented.get(room) for room in expected} == expected


def _documented_flow() -> list[str]:
    text = (SRC.parent.parent / "docs" / "architecture.md").read_text(encoding="utf-8")
    return re.findall(r"^\| \w+ \| `(fidelitas[^`]+)`", text[text.index("<!-- flow -->") : text.index("<!-- /flow -->")], re.MULTILINE)


def test_the_documented_flow_is_what_a_survey_runs_through(tmp_path: Path) -> None:
    """Every step that the document names is entered, in that order, by one audit of evidence in a ledger."""
    ledger = Ledger(tmp_path)
    made = bundle("ines ALL=(ALL) ALL\n")
    archives = [make_bundle(made.manifest, made.files, made.listings), make_rows_bundle("shop", "mariadb", NOW, {"server": b"{}\n"}, "")]
    ledger.add([read_bundle(BytesIO(archive)) for archive in archives], NOW)
    wanted = {
        attrgetter(rest)(import_module(module)).__code__: name for name in _documented_flow() for module, _, rest in [name.partition(":")]
    }
    entered: dict[str, None] = {}

    def note(frame: FrameType, event: str, _: object) -> None:
        if event == "call" and frame.f_code in wanted:
            entered.setdefault(wanted[frame.f_code])

    sys.setprofile(note)
    try:
        found = audit(ledger.newest())
        assert found.findings
        holders_table(selected(found.subjects, Filter()))
    finally:
        sys.setprofile(None)
    first = [name for name in entered if not name.endswith(":audit")]
    assert first == [name for name in _documented_flow() if not name.endswith(":audit")]


def test_commands_ask_for_a_report_and_not_for_its_form() -> None:
    """A further form is a module and a line of the table in `reports.forms`; no command knows which there are."""
    asked = {
        path.name: node.attr
        for path in (SRC / "cli").glob("*.py")
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
        if isinstance(node, ast.Attribute) and node.attr == "form" and path.name != "output.py"
    }
    assert not asked


def test_nothing_decides_by_the_words_of_a_link() -> None:
    """`because` is for readers: outside of reports it is written, and read into messages, but never compared or searched."""
    for path in FILES:
        if room_of(name_of(path)) == "reports":
            continue
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Compare):
                read = [part.attr for side in (node.left, *node.comparators) for part in ast.walk(side) if isinstance(part, ast.Attribute)]
                assert not {"because", "weakens"} & set(read), f"{path}:{node.lineno}"
