"""``fidelitas probe``."""

import click

from fidelitas.evidence import probe_script


@click.command
@click.option("--postgresql", is_flag=True, help="Print the script for psql that reads a PostgreSQL server instead.")
def command(*, postgresql: bool) -> None:
    """Print the collector script, to be read, carried to a host and run there as root.

    \b
        fidelitas probe > probe.sh
        sh probe.sh > host.tar          on the host
        fidelitas survey host.tar

    For a PostgreSQL server that this machine cannot reach:

    \b
        fidelitas probe --postgresql > probe.sql
        for db in postgres shop; do psql -X -q -A -t -f probe.sql "$db"; done > server.txt
        fidelitas survey server.txt --name db.example
    """  # noqa: D301 Click wants the character itself
    if postgresql:
        from fidelitas.sources.postgresql import dump_script  # noqa: PLC0415

        click.echo(dump_script(), nl=False)
        return
    click.echo(probe_script(), nl=False)
