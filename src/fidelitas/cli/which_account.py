"""``fidelitas which-account``."""

import click

from fidelitas.cli.complete import subjects
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.output import Output, format_option
from fidelitas.cli.source import Source, one_source_options
from fidelitas.doors import admission
from fidelitas.errors import RequestError
from fidelitas.reports.admission import admission_report


@click.command
@click.argument("server", shell_complete=subjects)
@click.argument("user")
@click.argument("address")
@click.option("--database", metavar="NAME", help="To which database, of PostgreSQL.  [default: USER, or postgres]")
@click.option("--tls/--no-tls", default=True, help="Whether the connection is encrypted, for PostgreSQL.  [default: --tls]")
@one_source_options
@format_option
def command(server: str, user: str, address: str, database: str | None, source: Source, output: Output, *, tls: bool) -> None:
    """Show which database account a connection of USER from ADDRESS gets on SERVER, by which line, and what it must prove.

    ADDRESS is an IP address, for MariaDB or MySQL also a host name, or "socket".  Exit status: 0 it gets an account, 1 it is refused.
    """
    (found,) = source.audit(server).subjects
    try:
        told = admission(found, user, address, database, tls=tls)
    except ValueError as error:
        raise RequestError(f'"{address}" is not an IP address', hint="Such as 10.20.3.7, or socket.") from error
    if told is None:
        raise RequestError(f'"{server}" is not a database server')
    output.report(admission_report(server, user, address, told), of=[found])
    tell_gaps([found])
    if told.account is None:
        raise SystemExit(1)
