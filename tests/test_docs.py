"""The documentation: its examples run and print what they say, its links lead somewhere, and the README stays short."""

import re
import shutil
import subprocess
import tomllib
from collections.abc import Callable
from pathlib import Path

import pytest

from examples import agrees, run, steps_of
from fidelitas.charter import read_charter
from mariadb_server import scratch_server as mariadb_server
from postgresql_server import scratch_server as postgresql_server
from support import fidelitas

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


def _blocks(kind: str) -> list[tuple[str, str]]:
    found = [
        (page.name, text)
        for page in PAGES
        for text in re.findall(rf"^```{kind}\n(.*?)^```$", page.read_text("utf-8"), re.DOTALL | re.MULTILINE)
    ]
    assert found
    return found


def test_files_that_are_shown_are_read(tmp_path: Path) -> None:
    for page, text in _blocks("toml"):
        tomllib.loads(text)
        if "[[warrant]]" in text:
            assert read_charter(text, page).warrants
        if page == "estate.md":
            (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
            for name in ("ssh_config", "names.txt"):
                (tmp_path / name).write_text("", encoding="utf-8")
            (tmp_path / "inventory").write_text("#!/bin/sh\necho plover\n", encoding="utf-8")
            (tmp_path / "inventory").chmod(0o700)
            ran = fidelitas("estate", "check", "estate.toml", cwd=tmp_path)
            assert ran.status == 0, ran.err


def test_units_that_are_shown_are_taken_by_systemd(tmp_path: Path, need: Callable[..., None]) -> None:
    need("systemd-analyze")
    for _, text in _blocks("ini"):
        name = text.partition("\n")[0].removeprefix("# ")
        (tmp_path / name).write_text(text.replace("User=fidelitas", "User=root"), encoding="utf-8")
    units = sorted(tmp_path.glob("fidelitas-*"))
    assert len(units) > 1
    done = subprocess.run(["systemd-analyze", "verify", *units], capture_output=True, text=True, check=False, timeout=60)
    assert not [line for line in done.stderr.splitlines() if "fidelitas-survey" in line], done.stderr


def test_what_makes_an_auditor_is_taken_by_the_servers(tmp_path: Path, need: Callable[..., None]) -> None:
    need("mariadbd", root=True)
    for_postgresql, for_mariadb = (text for page, text in _blocks("sql") if page == "databases.md")
    with postgresql_server(tmp_path) as server:
        server.run(for_postgresql)
        uri = f"postgresql:///postgres?host={server.socket}&port={server.port}&user=auditor"
        ran = fidelitas("survey", "--postgresql", uri, "--name", "tides-db", cwd=tmp_path)
        assert ran.status in (0, 3), ran.err
        assert "pg_hba_file_rules" not in ran.err
    with mariadb_server(tmp_path) as mariadb:
        mariadb.run("CREATE USER auditor@'10.20.%'", *filter(str.strip, for_mariadb.split(";\n")))
        assert "SHOW DATABASES" in str(mariadb.run("SHOW GRANTS FOR auditor@'10.20.%'"))
