"""The pages that are made of the commands and checks: those in the repository are these, and a page formatter accepts them."""

import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from fidelitas.cli.main import COMMANDS
from fidelitas.cli.manual import check_pages, checks_page, manual_pages

DOCS = Path(__file__).parent.parent / "docs"
PAGES = dict(manual_pages())


def test_the_pages_in_the_repository_are_those_of_the_commands() -> None:
    assert {path.name: path.read_text(encoding="utf-8") for path in (DOCS / "man").iterdir()} == PAGES, "make man writes them"
    assert (DOCS / "checks.md").read_text(encoding="utf-8") == checks_page(), "make man writes it"
    assert {path.name: path.read_text(encoding="utf-8") for path in (DOCS / "checks").iterdir()} == dict(check_pages()), (
        "make man writes them"
    )


def test_every_command_has_a_page() -> None:
    assert set(PAGES) == {"fidelitas.1", *(f"fidelitas-{name}.1" for name in COMMANDS)}


@pytest.mark.judge
@pytest.mark.parametrize("name", sorted(PAGES))
def test_a_formatter_accepts_the_page_and_shows_every_option(name: str, need: Callable[..., None]) -> None:
    need("mandoc")
    path = DOCS / "man" / name
    said = subprocess.run(["mandoc", "-T", "lint", "-W", "warning", path], capture_output=True, text=True, check=False).stdout
    assert not [line for line in said.splitlines() if "missing date" not in line and "mdoc" not in line], said
    shown = subprocess.run(["mandoc", "-T", "ascii", path], capture_output=True, text=True, check=True).stdout
    assert "EXIT STATUS" in shown.replace("\b", "").replace("EEXXIITT", "EXIT") or "S\bST" in shown
