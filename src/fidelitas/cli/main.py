"""The command group: where errors of the library become words and exit statuses."""

import difflib
import importlib
import os
import signal
import sys
from typing import NoReturn

import click

from fidelitas import __version__
from fidelitas.cycles import look_seldom
from fidelitas.errors import FidelitasError, RequestError
from fidelitas.text import escape_control

# Each command's module in this package, and its one line of help: shown without importing it.
COMMANDS = {
    "survey": "Read hosts, database servers and directories into the ledger and list who has full control; by default: this machine.",
    "estate": "Check and list the file that declares the estate.",
    "holders": "List who holds elevated rights, on what, by which route.",
    "why": "Show every route of one account, link by link, each with file and line.",
    "may": "Show whether an account may run a command, by which rule; if not, the nearest rule.",
    "accounts": "List the accounts of a subject: kind, IDs, groups, password, keys, last login, furthest right.",
    "admins": "List who administers a subject: groups with their members, by which line, and what is not in force.",
    "connections": "List who was logged in or connected, those with elevated rights first.",
    "which-account": "Show which database account a connection gets, and by which line.",
    "account": "Show one account's page: on each host its groups and all that it may run.",
    "compare": "Show what one account holds and another lacks.",
    "people": "Join accounts on all systems by an identity map: what each person holds, and who has left.",
    "leaver": "Show everything that a person who leaves still holds, and the steps that remove it.",
    "peers": "Show what holders have that few of their peers have, likely copied accounts, and hosts unlike others of their role.",
    "usage": "Show from logs who used privilege, who was refused, and who ran commands as root.",
    "programs": "List setuid programs and file capabilities, each with a verdict.",
    "findings": "List what is risky or unexpected, worst first.",
    "report": "Write the report for people who do not use a terminal: one file for a browser.",
    "export": "Write tables for analysts: holdings, links, findings and others as CSV and SQLite.",
    "changes": "Show what changed since the last survey: rights gained and lost with their cause, findings, accounts, subjects.",
    "revisions": "Show every revision of a sudo policy, PAM, sshd or root's keys: when and where seen, what it changed, which hosts lag.",
    "rehearse": "Preview what a new sudo policy or membership would change in rights.",
    "narrow": "Propose a sudo policy that allows what was used and little more, with every logged use replayed against it.",
    "charter": "Check the estate against the charter: what is sanctioned, what must be possible and never be; draft one; accept findings.",
    "review": "Review who holds what: freeze a list, have it decided, carry it out, keep signed evidence.",
    "coverage": "Show what was read, what was not and why, and which answers that weakens.",
    "ledger": "Show what the ledger holds, verify it, remove old surveys, and carry surveys to another ledger.",
    "probe": "Print the collector script, to be run by hand on a host.",
    "config": "Show settings and where each comes from.",
    "completion": "Print the completion script of a shell.",
    "help": "Explain a command, a check, or a word such as subject, route or gap.",
    "demo": "Make the demo estate, survey it and print the audit.",
}


# Under which name a command keeps the status with which it ends because a subject was lost as a whole.
UNREAD_STATUS = "fidelitas.unread"
# And the one with which it ends because of what was found, where all was read.
FOUND_STATUS = "fidelitas.found"


class Commands(click.Group):
    """Commands that are imported when they are called."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        command: click.Command = importlib.import_module(f"fidelitas.cli.{cmd_name.replace('-', '_')}").command
        return command

    def resolve_command(self, ctx: click.Context, args: list[str]) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in COMMANDS and not args[0].startswith("-"):
            near = difflib.get_close_matches(args[0], COMMANDS, n=3, cutoff=0.6)
            hint = f"Did you mean {' or '.join(near)}?" if near else 'See "fidelitas --help".'
            fail(RequestError(f'there is no command "{args[0]}"', hint=hint))
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(list(COMMANDS.items()))

    def invoke(self, ctx: click.Context) -> object:
        try:
            super().invoke(ctx)
            ctx.exit(ctx.meta.get(UNREAD_STATUS, ctx.meta.get(FOUND_STATUS, 0)))
        except FidelitasError as error:
            fail(error)
        except SystemExit as ended:
            # What was lost as a whole counts more than what is merely incomplete.
            raise SystemExit(ctx.meta.get(UNREAD_STATUS, ended.code) if ended.code in (0, 3) else ended.code) from None
        except BrokenPipeError:  # the reader has seen enough, as with "| head"
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            ctx.exit(0)
        except (click.exceptions.Exit, click.ClickException, click.Abort):
            raise
        except Exception as error:
            if os.environ.get("FIDELITAS_TRACEBACK"):
                raise
            from fidelitas.trouble import told  # noqa: PLC0415 what --help does without

            fail(FidelitasError(f"internal error: {told(error)}", hint="Please report it; FIDELITAS_TRACEBACK=1 shows where it was."))


def fail(error: FidelitasError) -> NoReturn:
    """Print an error, a line for each thing that is wrong, and exit with its status."""
    for line in error.more:
        click.echo(f"fidelitas: {escape_control(line)}", err=True)
    hint = f" {error.hint}" if error.hint else ""
    separator = "." if hint and not str(error).endswith((".", "!", "?")) else ""
    click.echo(f"fidelitas: {escape_control(str(error))}{separator}{escape_control(hint)}", err=True)
    raise SystemExit(error.exit_status)


def _end(number: int, _frame: object) -> NoReturn:
    raise SystemExit(128 + number)


# By which option of which commands each setting is used; for all commands where none is named.
_OPTIONS: dict[str, tuple[str, tuple[str, ...]]] = {
    "engine": ("engine", ()),
    "ledger": ("ledger", ()),
    "colour": ("colours", ()),
    "pager": ("paged", ()),
    "severity": ("severity", ("findings",)),
    "fail-on": ("fail_on", ("findings",)),
    "zone": ("log_zone", ()),
    "charter": ("charter", ("rehearse", "findings", "holders", "changes")),
    "people": ("mapped", ("people", "leaver", "rehearse", "findings", "holders", "changes", "peers")),
}


def _defaults() -> dict[str, dict[str, object]]:
    """Return what options default to by the configuration, for each command."""
    from fidelitas.configuration import read_settings  # noqa: PLC0415 what --help does without

    found: dict[str, dict[str, object]] = {name: {} for name in COMMANDS}
    for name, value in read_settings(environment=False).items():  # what the environment names, the options themselves know
        option, commands = _OPTIONS[name]
        for command in commands or COMMANDS:
            found.setdefault(command, {})[option] = value.value
    named = found.get("rehearse", {})
    if "charter" in named or "mapped" in named:
        own = {"file": named.get("charter"), "mapped": named.get("mapped")}
        found.setdefault("charter", {})["check"] = {name: value for name, value in own.items() if value is not None}
    return found


@click.command(cls=Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110})
@click.version_option(__version__, "-V", "--version", prog_name="fidelitas", message="%(prog)s %(version)s")
@click.pass_context
def main(ctx: click.Context) -> None:
    """Audit who holds elevated rights, by which rule, and what is risky about it.

    Start with "fidelitas survey" on the machine in question, or with "fidelitas demo".

    Exit status: 0 clean and complete; 1 findings at or above --fail-on; 2 usage error; 3 incomplete, evidence is missing;
    4 input could not be read.
    """
    # Told to end, it ends like one that is interrupted: what it has started is ended too, and what it has made is removed.
    for sent in (signal.SIGTERM, signal.SIGHUP):
        if signal.getsignal(sent) is signal.SIG_DFL:
            signal.signal(sent, _end)
    ctx.default_map = _defaults()
    look_seldom()
