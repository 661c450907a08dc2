"""``fidelitas estate``."""

from pathlib import Path

import click

from fidelitas.cli.output import Output, format_option, say
from fidelitas.estate import Estate
from fidelitas.reports.estate import estate_report
from fidelitas.reports.numbers import counted
from fidelitas.sources.estate_file import estate_at

FILE = Path("estate.toml")

_file = click.argument("file", default=FILE, type=click.Path(dir_okay=False, path_type=Path))


@click.group
def command() -> None:
    """Check and list the file that declares the estate: hosts, servers, tags, and how each is reached.

    \b
        fidelitas estate check                             estate.toml in the working folder
        fidelitas estate list --tag web
        fidelitas survey --estate estate.toml --tag web
    """  # noqa: D301 Click wants the character itself


@command.command("check")
@_file
def check(file: Path) -> None:
    """Check the file of the estate; every mistake is reported with its line and column.

    Lists that it refers to are read, and commands that it names are run; no host is contacted.
    """
    estate = estate_at(file)
    parts = [counted(len(estate.hosts), "host"), counted(len(estate.servers), "server"), counted(len(estate.tags), "tag")]
    say(f'"{file}" is well-formed: {", ".join(parts)}')


@command.command("list")
@_file
@click.option("--tag", "tags", metavar="TAG", multiple=True, help="Only subjects with this tag; repeatable.")
@format_option
def listing(file: Path, tags: tuple[str, ...], output: Output) -> None:
    """List the subjects of the estate: name, address, how root is reached, and tags."""
    output.report(estate_report(chosen(estate_at(file), tags, (), file)))


def chosen(estate: Estate, tags: tuple[str, ...], names: tuple[str, ...], file: Path) -> Estate:
    """Return the part of an estate that is asked for; refuse tags and names that it does not have."""
    from fidelitas.cli.names import unknown_name  # noqa: PLC0415 most calls need none

    for name in names:
        if name not in estate.names:
            raise unknown_name(f'estate "{file}" has no subject', name, estate.names)
    for tag in tags:
        if not estate.chosen([tag]).names:
            raise unknown_name(f'estate "{file}" has no subject with tag', tag, estate.tags)
    return estate.chosen(tags, names)
