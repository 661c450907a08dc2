"""``fidelitas config``."""

import click

from fidelitas.cli.output import Output, format_option
from fidelitas.configuration import configuration_files, read_settings
from fidelitas.reports.settings import settings_report


@click.group
def command() -> None:
    """Show settings and where each comes from.

    Settings are what options default to.  They are read from fidelitas.toml in the user's configuration folder, then from fidelitas.toml in
    the working folder; the environment counts more than both, an option on the command line most.
    """


@command.command("show")
@format_option
def show(output: Output) -> None:
    """Show every setting: its value, where it comes from, and what it is for."""
    output.report(settings_report(read_settings(), configuration_files()))
