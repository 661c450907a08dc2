"""--engine: where work on many subjects is done."""

import os
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeVar

import click

from fidelitas.cli.output import say
from fidelitas.engines import Engine, LocalEngine
from fidelitas.extras import installed_extra

if TYPE_CHECKING:
    from fidelitas.ledger import Ledger

__all__ = ["engine_for", "engine_option"]

F = TypeVar("F", bound=Callable[..., Any])
_CHOSEN = "fidelitas.engine"
_VARIABLE = "FIDELITAS_ENGINE"


def engine_option(function: F) -> F:
    """Add --engine; a command asks for what it names by `engine_for`."""
    return click.option(
        "--engine",
        metavar="ENGINE",
        expose_value=False,
        callback=_choose,
        help="Where subjects are judged and logs read: local, or dask://HOST:PORT, whose workers use the same ledger of PostgreSQL.  "
        f"[default: ${_VARIABLE}, or local]",
    )(function)


def _choose(context: click.Context, _: click.Parameter, value: str | None) -> None:
    context.find_root().meta[_CHOSEN] = value


def engine_for(ledger: "Ledger") -> Engine:
    """Return the engine that was chosen, for work on the evidence of a ledger."""
    named = click.get_current_context().find_root().meta.get(_CHOSEN) or os.environ.get(_VARIABLE) or "local"
    if named == "local":
        return LocalEngine()
    with installed_extra():
        from fidelitas.engines.cluster import ClusterEngine  # noqa: PLC0415 takes half a second to load

    return ClusterEngine(named, ledger, say)
