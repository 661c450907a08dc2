"""What predefined roles and parameters reach, by the tables beside this module."""

import tomllib
from collections.abc import Mapping
from functools import cache
from importlib import resources
from typing import Any

from fidelitas.rights.graph.links import RightKind

__all__ = ["host_parameters", "predefined"]

_RIGHTS = {"db-host-escape": RightKind.DB_HOST_ESCAPE, "db-read-all": RightKind.DB_READ_ALL, "db-write-all": RightKind.DB_WRITE_ALL}


@cache
def predefined() -> dict[str, tuple[RightKind, str]]:
    """Return what each predefined role reaches, with the clause that completes "P → right because …"."""
    return {name: (_RIGHTS[row["right"]], row["because"]) for name, row in _table("predefined").items()}


@cache
def host_parameters() -> Mapping[str, Mapping[str, Any]]:
    """Return the parameters that name what the server runs or loads on its host."""
    return {name: row for name, row in _table("parameters").items() if name != "format"}


def _table(name: str) -> dict[str, Any]:
    return tomllib.loads(resources.files(__package__).joinpath(f"{name}.toml").read_text(encoding="utf-8"))
