"""The manual pages, and the pages of checks, made of the commands and checks themselves: ``python -m fidelitas.cli.manual FOLDER``.

Pages are in the man macros (groff_man(7)); `make man` writes them, and the wheel brings them.
"""

import re
import sys
from collections.abc import Iterator
from itertools import groupby
from pathlib import Path

import click

from fidelitas import __version__
from fidelitas.cli.main import COMMANDS, main
from fidelitas.findings import CheckText
from fidelitas.platforms import check_texts

__all__ = ["check_pages", "checks_page", "manual_pages"]

_STATUS = (
    ("0", "success, and complete where the answer depends on it"),
    ("1", "findings at or above --fail-on; may: refused; rehearse: a lock-out; charter: a broken clause; people: a leaver with rights"),
    ("2", "usage error, or an unknown name"),
    ("3", "incomplete: evidence is missing"),
    ("4", "input, or a whole subject, could not be read"),
)  # fmt: skip
_ENVIRONMENT = (
    ("FIDELITAS_LEDGER", "the folder in which surveys are kept; by default fidelitas/ledger in the user's state folder"),
    ("FIDELITAS_ENGINE", "where subjects are judged and logs read: local, or dask://HOST:PORT"),
    ("NO_COLOR", "no colours"),
    ("PAGER", "the program that shows what is longer than the screen"),
    ("TZ", "the time zone in which times are shown"),
)
_FILES = (
    ("~/.config/fidelitas/fidelitas.toml, ./fidelitas.toml", "settings: see fidelitas config show"),
    ("~/.local/state/fidelitas/ledger", "the ledger"),
)


def manual_pages() -> Iterator[tuple[str, str]]:
    """Yield the name and the text of every page: of the program, and of each command."""
    context = click.Context(main, info_name="fidelitas")
    yield "fidelitas.1", _main_page()
    for name in COMMANDS:
        command = main.get_command(context, name) if isinstance(main, click.Group) else None
        if command is not None:
            yield f"fidelitas-{name}.1", _command_page(name, command, context)


def _main_page() -> str:
    commands = [_item(f"\\fBfidelitas {name}\\fR", text) for name, text in COMMANDS.items()]
    return _page("fidelitas", "audit who holds elevated rights, by which rule, and what is risky about it", [
        ("SYNOPSIS", ["\\fBfidelitas\\fR \\fICOMMAND\\fR [\\fIOPTION\\fR]... [\\fIARGUMENT\\fR]..."]),
        ("DESCRIPTION", _paragraphs(main.help or "")),
        ("COMMANDS", commands),
        *_common(),
        ("SEE ALSO", [", ".join(f"\\fBfidelitas-{_text(name)}\\fR(1)" for name in COMMANDS)]),
    ])  # fmt: skip


def _command_page(name: str, command: click.Command, parent: click.Context) -> str:
    context = click.Context(command, info_name=name, parent=parent)
    pieces = " ".join(_text(piece) for piece in command.collect_usage_pieces(context))
    records = [
        record
        for one in command.get_params(context)
        if isinstance(one, click.Option) and (record := one.get_help_record(context)) is not None
    ]
    described = _paragraphs(command.help or "")
    if isinstance(command, click.Group):
        for sub, one in command.commands.items():
            described += [".SS", f"fidelitas {name} {sub}", *_paragraphs(one.help or "")]
    return _page(f"fidelitas-{name}", COMMANDS[name].rstrip("."), [
        ("SYNOPSIS", [f"\\fBfidelitas {_text(name)}\\fR {pieces}"]),
        ("DESCRIPTION", described),
        ("OPTIONS", [_item(f"\\fB{_text(flag)}\\fR", text) for flag, text in records]),
        *_common(),
        ("SEE ALSO", ["\\fBfidelitas\\fR(1)"]),
    ])  # fmt: skip


def _common() -> list[tuple[str, list[str]]]:
    sections = (("EXIT STATUS", _STATUS), ("ENVIRONMENT", _ENVIRONMENT), ("FILES", _FILES))
    return [(title, [_item(f"\\fB{_text(name)}\\fR", text) for name, text in rows]) for title, rows in sections]


def _page(name: str, summary: str, sections: list[tuple[str, list[str]]]) -> str:
    lines = [f'.TH "{name.upper()}" 1 "" "Fidelitas {__version__}" "User Commands"', ".SH NAME", f"{_text(name)} \\- {_text(summary)}"]
    for title, body in sections:
        lines += [f'.SH "{title}"', *body] if body else []
    return "\n".join(lines) + "\n"


def _item(term: str, text: str) -> str:
    return f".TP\n{term}\n{_text(text)}"


def _paragraphs(text: str) -> list[str]:
    r"""Return a help text as paragraphs; one that begins with ``\b`` keeps its lines, as Click has it."""
    lines: list[str] = []
    for paragraph in re.split(r"\n\s*\n", text.strip()):
        lines += [".PP"] if lines else []
        if paragraph.lstrip().startswith("\b"):
            kept = [line.strip() for line in paragraph.lstrip().removeprefix("\b").strip("\n").split("\n")]
            lines += [".nf", *map(_text, kept), ".fi"]
        else:
            lines.append(_text(" ".join(paragraph.split())))
    return lines


def _text(text: str) -> str:
    r"""Return text that roff shows as it is: backslashes, hyphens, and a dot or quote at the beginning of a line."""
    shown = " ".join(text.split()).replace("\\", "\\e").replace("-", "\\-")
    return "\\&" + shown if shown.startswith((".", "'")) else shown


def checks_page() -> str:
    """Return the list of all checks in Markdown, by family, each with a link to its page."""
    lines = [
        "# Checks",
        "",
        "What `fidelitas findings` looks for. Each finding names host, file and line; `fidelitas help CHECK` shows the page of a check.",
    ]
    for family, checks in groupby(check_texts().items(), key=lambda row: row[0].partition(".")[0]):
        lines += ["", f"## {family}", "", "| check | severity | what is wrong |", "|---|---|---|"]
        lines += [f"| [`{name}`](checks/{name}.md) | {check.severity} | {check.title} |" for name, check in checks]
    return "\n".join(lines) + "\n"


def check_pages() -> Iterator[tuple[str, str]]:
    """Yield the name and the text of the page of each check: what, why, fix, example, what only looks like it, evidence needed."""
    for name, check in check_texts().items():
        yield f"{name}.md", _check_page(name, check)


def _check_page(name: str, check: CheckText) -> str:
    sections = (
        ("Why it matters", check.why),
        ("What to do", check.fix),
        ("Example", f"```text\n{check.example}\n```"),
        ("What only looks like it", check.unlike),
        ("Evidence needed", f"{check.needs[0].upper()}{check.needs[1:]}. What of it is missing is a gap (`fidelitas coverage`)."),
    )
    body = "\n".join(f"\n## {title}\n\n{text}" for title, text in sections)
    return f"# {name}\n\n{check.title} Severity: {check.severity}.\n{body}\n\n[All checks](../checks.md)\n"


def write(folder: Path) -> None:
    """Write the manual pages into ``man``, the list of checks and their pages into a folder."""
    (folder / "man").mkdir(parents=True, exist_ok=True)
    for name, text in manual_pages():
        (folder / "man" / name).write_text(text, encoding="utf-8")
    (folder / "checks.md").write_text(checks_page(), encoding="utf-8")
    (folder / "checks").mkdir(exist_ok=True)
    for name, text in check_pages():
        (folder / "checks" / name).write_text(text, encoding="utf-8")


if __name__ == "__main__":
    write(Path(sys.argv[1]))
