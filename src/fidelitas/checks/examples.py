"""What each check looks like: an example that raises it, what only looks like it, the evidence that it is judged by (`examples.toml`)."""

import tomllib
from collections.abc import Mapping
from functools import cache
from importlib import resources

from msgspec import Struct

__all__ = ["Example", "example_of", "examples"]


class Example(Struct, frozen=True, kw_only=True):
    """Of one check: what raises it, what only looks like it, and what must be in evidence; `quiet` is text like it that raises nothing."""

    example: str
    unlike: str
    needs: str
    quiet: str | None = None


@cache
def examples() -> Mapping[str, Example]:
    """Return the example of every check, by its name."""
    stated = tomllib.loads(resources.files(__package__).joinpath("examples.toml").read_text(encoding="utf-8"))
    needs = stated.pop("needs")
    return {name: Example(**{"needs": needs[name.partition(".")[0]], **row}) for name, row in stated.items()}


def example_of(check: str) -> Example:
    """Return the example of a check; `KeyError` for an unknown one."""
    return examples()[check]
