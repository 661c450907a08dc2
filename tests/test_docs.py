"""The documentation: its examples run and print what they say, its links lead somewhere, and the README stays short."""

import re
import shutil
from pathlib import Path

import pytest

from support import fidelitas
from transcripts import agrees, run, steps_of

HERE = Path(__file__).parent.parent
README = HERE / "README.md"
PAGES = [README, *sorted((HERE / "docs").glob("*.md")), HERE / "CONTRIBUTING.md"]
TUTORIAL = HERE / "docs" / "tutorial.md"
LONGEST_README = 150
# A usage error, an unknown name, and what could not be read.
_REFUSED = (2, 4)
_LINK = re.compile(r"\]\((?!https?:)([^)#\s]+)[^)]*\)")


@pytest.fixture(scope="module")
def estate(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("docs")
    assert fidelitas("demo", "saltmarsh", cwd=folder).status == 0
    return folder / "saltmarsh"


@pytest.mark.parametrize("page", [page for page in PAGES if steps_of(page)], ids=lambda page: page.stem)
def test_examples_print_what_they_say(page: Path, estate: Path, tmp_path: Path) -> None:
    folder = tmp_path / "saltmarsh"
    if page != TUTORIAL:
        shutil.copytree(estate, folder)
    steps = steps_of(page)
    for step, ran in zip(steps, run(steps, tmp_path if page == TUTORIAL else folder), strict=True):
        where = f"{page.name}:{step.line}: $ {step.command}"
        assert "Traceback" not in ran.err, where
        if step.expected:
            assert agrees(step.expected, ran.out), "\n".join((where, *ran.out, ran.err))
        else:
            assert ran.status not in _REFUSED, f"{where}\n{ran.err}"


@pytest.mark.parametrize(("expected", "printed", "same"), [
    (("a", "b"), ("a", "b"), True), (("a",), ("a", "b"), False), (("a", "…"), ("a", "b", "c"), True), (("a", "…"), ("a",), True),
    (("…", "c"), ("a", "c", "d"), False), (("a.",), ("ab",), False), (("a", "b"), ("a",), False),
])  # fmt: skip
def test_what_counts_as_the_same(expected: tuple[str, ...], printed: tuple[str, ...], same: bool) -> None:
    assert agrees(expected, printed) is same


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.stem)
def test_links_lead_somewhere(page: Path) -> None:
    assert [target for target in _LINK.findall(page.read_text(encoding="utf-8")) if not (page.parent / target).exists()] == []


def test_the_readme_is_short_and_leads_to_every_page_and_picture() -> None:
    text = README.read_text(encoding="utf-8")
    assert len(text.splitlines()) <= LONGEST_README
    reached = {target for page in (README, *PAGES) for target in _resolved(page)}
    kept = {*(HERE / "docs").glob("*.md"), *(HERE / "docs" / "screenshots").glob("*.png")}
    assert sorted(str(one) for one in kept - reached) == []


def _resolved(page: Path) -> set[Path]:
    return {(page.parent / target).resolve() for target in _LINK.findall(page.read_text(encoding="utf-8"))}
