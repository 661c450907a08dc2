"""``fidelitas probe``."""

import click

from fidelitas.errors import RequestError
from fidelitas.evidence import probe_script, windows_probe_script


@click.command
@click.option("--windows", is_flag=True, help="Print the script for PowerShell that reads a Windows machine instead.")
@click.option("--postgresql", is_flag=True, help="Print the script for psql that reads a PostgreSQL server instead.")
@click.option("--mariadb", is_flag=True, help="Print the script for mariadb or mysql that reads such a server instead.")
def command(*, windows: bool, postgresql: bool, mariadb: bool) -> None:
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
    if sum((windows, postgresql, mariadb)) > 1:
        raise RequestError("one script is printed at a time", hint="Give one of --windows, --postgresql, --mariadb.")
    if windows:
        click.echo(windows_probe_script(), nl=False)
        return
    if mariadb:
        from fidelitas.sources.mariadb_dump import dump_script as mariadb_script  # noqa: PLC0415

        click.echo(mariadb_script(), nl=False)
        return
    if postgresql:
        from fidelitas.sources.postgresql import dump_script  # noqa: PLC0415

        click.echo(dump_script(), nl=False)
        return
    click.echo(probe_script(), nl=False)
