"""The examples of the checks: each that can be put on a small host is found there by the built program, and what only looks so is not."""

import re
from pathlib import Path

import pytest

from fidelitas.checks.examples import Example, examples
from fidelitas.platforms import every_check
from support import fidelitas, packed

EXAMPLES = examples()
FILE = re.compile(r"(?P<path>/[^\s:]+): (?P<text>.*)", re.DOTALL)


def planted(text: str) -> tuple[str, str] | None:
    """Return the path and the content of an example that is a file (``PATH: TEXT``), ``None`` for one that is stated in words."""
    found = FILE.fullmatch(text)
    return None if found is None else (found["path"], found["text"] + "\n")


def variants() -> list[tuple[str, bool, str]]:
    """Return the check, whether it is to be found, and the text of each example and each text that only looks like one."""
    texts = [(name, wanted, text) for name, one in EXAMPLES.items() for wanted, text in ((True, one.example), (False, one.quiet)) if text]
    return [(name, wanted, text) for name, wanted, text in texts if planted(text) or " tern " in text]


def test_every_check_has_an_example() -> None:
    assert set(EXAMPLES) == set(every_check())
    assert all(isinstance(one, Example) and one.unlike.endswith(".") for one in EXAMPLES.values())


@pytest.fixture(scope="module")
def found(tmp_path_factory: pytest.TempPathFactory) -> dict[str, set[str]]:
    """Return the checks that find something on each host: one for each text, surveyed and read together."""
    folder = tmp_path_factory.mktemp("examples")
    log: list[str] = []
    bundles: list[Path] = []
    for number, (_, _, text) in enumerate(variants()):
        host = f"host-{number}"
        file = planted(text)
        if file is None:
            log += [line.replace(" tern ", f" {host} ") for line in text.splitlines()]
            continue
        bundles.append(folder / f"{host}.tar")
        bundles[-1].write_bytes(packed("@includedir /etc/sudoers.d\n", dict([file]), name=host))
    (folder / "auth.log").write_text("\n".join(log) + "\n", encoding="utf-8")
    assert fidelitas("survey", *bundles, cwd=folder).status in (0, 1)
    told: dict[str, set[str]] = {}
    for one in fidelitas("findings", "--format", "json", cwd=folder).json["findings"]:
        told.setdefault(one["subject"], set()).add(one["check"])
    for one in fidelitas("usage", "--log", "auth.log", "--format", "json", cwd=folder).json["findings"]:
        told.setdefault(one["subject"], set()).add(one["check"])
    return told


@pytest.mark.parametrize(("number", "name", "wanted"), [(number, name, wanted) for number, (name, wanted, _) in enumerate(variants())])
def test_an_example_is_found_and_what_only_looks_so_is_not(number: int, name: str, wanted: bool, found: dict[str, set[str]]) -> None:
    assert (name in found.get(f"host-{number}", set())) is wanted, variants()[number]
