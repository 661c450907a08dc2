"""A short seeded run over every reader, and everything that ever raised."""

import random
from pathlib import Path

import pytest

from fuzz import CRASHERS, mutated, seeds, tried
from readers import READERS

_INPUTS = 60


@pytest.fixture(scope="module")
def pool() -> list[bytes]:
    return seeds(CRASHERS.parent)


@pytest.mark.parametrize("name", READERS)
def test_no_input_raises(name: str, pool: list[bytes]) -> None:
    chance = random.Random(f"tests {name}")
    faults = [(fault, content) for content in (mutated(chance, pool) for _ in range(_INPUTS)) if (fault := tried(name, content))]
    assert faults == []


@pytest.mark.parametrize("path", sorted(path for path in CRASHERS.iterdir() if "-" in path.name), ids=lambda path: path.name)
def test_what_raised_once_does_not_again(path: Path) -> None:
    name = path.name.rpartition("-")[0].replace("_", " ")
    assert tried(name, path.read_bytes()) == ""
