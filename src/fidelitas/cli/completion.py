"""``fidelitas completion``."""

import click
from click.shell_completion import get_completion_class

from fidelitas.errors import RequestError

_SHELLS = ("bash", "zsh", "fish")


@click.command
@click.argument("shell", type=click.Choice(_SHELLS))
def command(shell: str) -> None:
    """Print the completion script of SHELL: commands, options, and subjects, accounts, checks and surveys of the ledger.

    \b
        bash   eval "$(fidelitas completion bash)" in ~/.bashrc
        zsh    eval "$(fidelitas completion zsh)" in ~/.zshrc
        fish   fidelitas completion fish > ~/.config/fish/completions/fidelitas.fish
    """  # noqa: D301 Click wants the character itself
    made = get_completion_class(shell)
    if made is None:
        raise RequestError(f"no completion for {shell}")
    root = click.get_current_context().find_root().command
    click.echo(made(root, {}, "fidelitas", "_FIDELITAS_COMPLETE").source())
