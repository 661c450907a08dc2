"""``fidelitas probe``."""

from collections.abc import Callable
from typing import Any

import click

from fidelitas.errors import RequestError
from fidelitas.platforms import PLATFORMS, load

# The scripts that read a subject where it is.
_SCRIPTS = {name: row.collector for name, row in PLATFORMS.items() if row.collector is not None}


def _script_options(function: Callable[..., Any]) -> Callable[..., Any]:
    for name in reversed([name for name in _SCRIPTS if name != "linux"]):
        function = click.option(f"--{name}", is_flag=True, help=f"Print the script that reads {PLATFORMS[name].title} instead.")(function)
    return function


@click.command
@_script_options
def command(**wanted: bool) -> None:
    """Print the collector script, to be read, carried to a host and run there as root.

    \b
        fidelitas probe > probe.sh
        sh probe.sh > host.tar          on the host
        fidelitas survey host.tar

    For a Windows machine, as an administrator there:

    \b
        fidelitas probe --windows > probe.ps1
        powershell -NoProfile -ExecutionPolicy Bypass -File probe.ps1 -OutFile machine.tar

    For a PostgreSQL server that this machine cannot reach:

    \b
        fidelitas probe --postgresql > probe.sql
        for db in postgres shop; do psql -X -q -A -t -f probe.sql "$db"; done > server.txt
        fidelitas survey server.txt --name db.example

    For a MariaDB or MySQL server:

    \b
        fidelitas probe --mariadb > probe.sql
        mariadb --batch --force < probe.sql > server.txt
        fidelitas survey server.txt --name db.example
    """  # noqa: D301 Click wants the character itself
    chosen = [name for name in _SCRIPTS if name != "linux" and wanted[name]]
    if len(chosen) > 1:
        raise RequestError(
            "one script is printed at a time", hint=f"Give one of {', '.join(f'--{name}' for name in _SCRIPTS if name != 'linux')}."
        )
    click.echo(load(_SCRIPTS[chosen[0] if chosen else "linux"])(), nl=False)
