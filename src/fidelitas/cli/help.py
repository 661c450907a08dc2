"""``fidelitas help``."""

import click

from fidelitas.cli.main import COMMANDS
from fidelitas.cli.names import unknown_name
from fidelitas.cli.output import Output, format_option
from fidelitas.platforms import check_names, check_texts
from fidelitas.reports.glossary import glossary_report, terms


@click.command
@click.argument("word", required=False)
@format_option
@click.pass_context
def command(ctx: click.Context, word: str | None, output: Output) -> None:
    """Explain WORD: a command, a check, or a word such as subject, route or gap.  Without WORD, list the words."""
    root = ctx.find_root()
    if word in COMMANDS and isinstance(root.command, click.Group):
        named = root.command.get_command(root, word)
        if named is not None:
            click.echo(named.get_help(click.Context(named, info_name=word, parent=root)))
            return
    known, checks = terms(), check_texts()
    if word is not None and word not in known and word not in checks:
        raise unknown_name("there is no command, check or word", word, {*COMMANDS, *known, *check_names()})
    output.report(glossary_report(known, checks, word))
