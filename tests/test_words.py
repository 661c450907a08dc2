"""The words of the program: phrases that readers stumble over are in no help text, message, table of rights, finding or page.

Looked through are the strings of the source (docstrings only of commands and checks, which are shown), its tables, and the documentation.
"""

import ast
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
SRC = ROOT / "src" / "fidelitas"

# What not to write, and what to write instead.
BANNED = {
    r"\btells?\b|\btold\b": "show, list, report, state, say; recorded, known",
    r"(?<!there )\b(is|are|was|were) no (?!longer|more)": "is not a …",
    r"\bis none\b": "is not",
    r"\b(some|any|every)body\b": "someone, any account, everyone",
    r"\bwhoever\b": "anyone who, any account that",
    r"\bwhosoever\b|\bwhatsoever\b": "anyone, anything",
    r"\bstands? in (?!for)": "is in",
    r"\blies? (in|on|about|there)\b": "is in, is stored on",
    r"\b(gets?|lets?) (in|\w+ in)\b(?! (sync|order))": "can log in, can connect; accepts",
    r"\bway in\b": "login, connection",
    r"\bcomes? to a right\b": "has a right",
    r"\bhad by\b": "held by",
    r"\bhands? over\b": "gives",
    r"\bnames end\b": "attribution ends",
    r"\bstood behind\b": "ran, is attributed to",
    r"\btaken as (no|yes)\b": "assumed false, assumed true",
    r"\bheld against\b|\bput to a policy\b": "checked against",
    r"\bout of order\b": "anomalies",
    r"\bbarrier\b": "does not restrict",
    r"\bforestall": "overridden",
    r"\bdoubted\b": "suspected forgery",
    r"\bchange rehearsed\b": "preview of a change",
    r"\bThere is of\b": "did you mean",
    r"\bpassed over\b|\bpasses over\b": "skipped",
    r"\blog-(ins?|ons?)\b": "login, log in; logon on Windows",
    r"\bsign-?in\b": "login",
    r"\bunasked\b": "without a password",
    r"\bdeeds?\b": "event, action",
    r"\bso many\b|\bso much\b": "a number",
    r"\bfor ever\b|\bby the look of it\b|\bto wit\b": "drop",
    r"\b(of|with) its own\b": "separate, its",
    r"(?<!; )\b1 (people|accounts|hosts|subjects|gaps|findings|rights|events|groups|rules)\b": "the singular",
}
_PATTERNS = {re.compile(pattern, re.IGNORECASE if pattern.islower() else 0): instead for pattern, instead in BANNED.items()}
# Where a phrase is a term of the trade, or a name.
EXCEPTIONS = {
    "login is no longer": "",
    "Africa/": "names of time zones",
}
DOCUMENTS = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").glob("*.md"))]
TABLES = sorted(path for path in SRC.rglob("*.toml") if "demo" not in path.parts)
SOURCES = sorted(path for path in SRC.rglob("*.py") if "demo" not in path.parts)


def is_shown(node: ast.AST) -> bool:
    """Return whether a docstring is shown to users: that of a command, a check or an option's callback."""
    return any(re.search(r"\b(check|command|group)\b", ast.unparse(one)) for one in getattr(node, "decorator_list", []))


def strings(path: Path) -> Iterator[tuple[int, str]]:
    """Yield the strings of a module that can be shown, with their lines."""
    tree = ast.parse(path.read_text(encoding="utf-8"))
    documented = (ast.FunctionDef, ast.ClassDef, ast.Module)
    hidden = {
        id(node.body[0].value)
        for node in ast.walk(tree)
        if isinstance(node, documented) and node.body and isinstance(node.body[0], ast.Expr) and not is_shown(node)
    }
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in hidden:
            yield node.lineno, node.value


def faults(lines: Iterator[tuple[int, str]]) -> list[str]:
    """Return the banned phrases in some texts, each with its line and what to write instead."""
    return [
        f"{line}: {found.group()!r} in {text.strip()[:120]!r}: write {instead}"
        for line, text in lines
        if " " in text and not any(exception in text for exception in EXCEPTIONS)
        for pattern, instead in _PATTERNS.items()
        if (found := pattern.search(text)) is not None
    ]


@pytest.mark.parametrize("path", SOURCES, ids=lambda path: str(path.relative_to(SRC)))
def test_the_strings_of_the_program_are_in_plain_english(path: Path) -> None:
    assert not faults(strings(path))


@pytest.mark.parametrize("path", [*TABLES, *DOCUMENTS], ids=lambda path: path.name)
def test_tables_and_pages_are_in_plain_english(path: Path) -> None:
    lines = enumerate(path.read_text(encoding="utf-8").splitlines(), 1)
    assert not faults((number, line) for number, line in lines if not line.startswith("#") or path.suffix == ".md")


def test_words_for_people_are_the_same_in_comments_and_names() -> None:
    # Of the other phrases a pattern cannot decide in code: `is none` is Python's.
    words = re.compile(r"(some|any|every)body|\b(who(so)?ever|deeds?)\b|\blies? in\b", re.IGNORECASE)
    found = [
        f"{path.relative_to(ROOT)}:{number}: {line.strip()[:100]}"
        for path in sorted({*SRC.rglob("*.py"), *SRC.rglob("*.sh"), *SRC.rglob("*.ps1"), *(ROOT / "tests").glob("*.py")})
        if path != Path(__file__)
        for number, line in enumerate(path.read_text(encoding="utf-8").splitlines(), 1)
        if words.search(line)
    ]
    assert found == []


@pytest.mark.parametrize(
    "phrase", ["it tells who", "Whoever has it", "a rule is no rule", "somebody may", "the log-in of ines", "there are 1 gaps"]
)
def test_a_banned_phrase_is_found(phrase: str) -> None:
    assert faults(iter([(1, phrase)]))
