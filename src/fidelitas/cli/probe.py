"""``fidelitas probe``."""

import click

from fidelitas.evidence import probe_script


@click.command
def command() -> None:
    r"""Print the collector script, to be read, carried to a host and run there as root.

    \b
        fidelitas probe > probe.sh
        sh probe.sh > host.tar          on the host
        fidelitas survey host.tar
    """
    click.echo(probe_script(), nl=False)
