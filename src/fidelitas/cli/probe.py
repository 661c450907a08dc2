"""``fidelitas probe``."""

from collections.abc import Callable
from typing import Any

import click

from fidelitas.errors import RequestError
from fidelitas.evidence import probe_script
from fidelitas.evidence.collector_rule import collector_rule, is_digest
from fidelitas.platforms import PLATFORMS, load

# The scripts that read a subject where it is.
_SCRIPTS = {name: row.collector for name, row in PLATFORMS.items() if row.collector is not None}


def _script_options(function: Callable[..., Any]) -> Callable[..., Any]:
    for name in reversed([name for name in _SCRIPTS if name != "linux"]):
        function = click.option(f"--{name}", is_flag=True, help=f"Print the script that reads {PLATFORMS[name].title} instead.")(function)
    return function


@click.command
@_script_options
@click.option("--sudoers-rule", metavar="ACCOUNT", help="Print the sudo rule that lets ACCOUNT run the script as root, and nothing else.")
@click.option(
    "--also", metavar="SHA256", multiple=True, help="With --sudoers-rule: a version that stays allowed, by its digest; repeatable."
)
def command(sudoers_rule: str | None, also: tuple[str, ...], **wanted: bool) -> None:
    """Print the collector script, to be read, carried to a host and run there as root.

    \b
        fidelitas probe > probe.sh
        sh probe.sh > host.tar          on the host
        fidelitas survey host.tar

    For hosts that are read over SSH without a password (see "fidelitas estate"), the rule of sudo that allows this script alone:

    \b
        fidelitas probe --sudoers-rule auditor > fidelitas-probe

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
    if sudoers_rule is not None or also:
        click.echo(_rule(sudoers_rule, also), nl=False)
        return
    chosen = [name for name in _SCRIPTS if name != "linux" and wanted[name]]
    if len(chosen) > 1:
        raise RequestError(
            "one script is printed at a time", hint=f"Give one of {', '.join(f'--{name}' for name in _SCRIPTS if name != 'linux')}."
        )
    click.echo(load(_SCRIPTS[chosen[0] if chosen else "linux"])(), nl=False)


def _rule(account: str | None, also: tuple[str, ...]) -> str:
    if account is None:
        raise RequestError("--also is for --sudoers-rule", hint="Name the account: --sudoers-rule ACCOUNT.")
    wrong = next((digest for digest in also if not is_digest(digest)), None)
    if wrong is not None:
        raise RequestError(f'"{wrong}" is not a SHA-256', hint="Give 64 hexadecimal digits: sha256sum prints them.")
    try:
        return collector_rule(probe_script(), account, also)
    except ValueError as error:
        raise RequestError(str(error)) from error
